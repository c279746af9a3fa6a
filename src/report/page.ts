/** Text in a page: everything that people wrote goes through here. */
export function escaped(text: string): string {
  const names: Readonly<Record<string, string>> = {
    "&": "&amp;",
    "<": "&lt;",
    ">": "&gt;",
    '"': "&quot;",
    "'": "&#39;",
  };
  return text.replace(/[&<>"']/g, (sign) => names[sign] ?? sign);
}

/** One file that stands by itself: no script, nothing loaded, light and dark, and fit to be printed. */
export function page(title: string, style: string, body: string): string {
  return `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>${escaped(title)}</title>
<style>
:root { color-scheme: light dark; --paper: #fbfaf7; --ink: #22262b; --soft: #5b636d; --line: #d9d5cb; --band: #f1eee6;
  --good: #1d6b45; --half: #8a5a00; --bad: #a3262a; --link: #1f5a8a; }
@media (prefers-color-scheme: dark) { :root { --paper: #171a1e; --ink: #e6e3dc; --soft: #a3a9b1; --line: #3a4048;
  --band: #20252b; --good: #7cc79f; --half: #e0b35a; --bad: #f0938f; --link: #8bbde6; } }
@media print { :root { color-scheme: light; --paper: #fff; --ink: #000; --soft: #444; --line: #bbb; --band: #f4f4f4;
  --good: #1d6b45; --half: #8a5a00; --bad: #a3262a; --link: #000; } }
* { box-sizing: border-box; }
body { margin: 0 auto; padding: 1.5rem; max-width: 78rem; background: var(--paper); color: var(--ink);
  font: 15px/1.5 system-ui, "Segoe UI", "DejaVu Sans", sans-serif; }
h1 { font-size: 1.6rem; margin: 0 0 .3rem; } h2 { font-size: 1.2rem; margin: 2rem 0 .5rem; } h3 { font-size: 1rem; margin: 1.2rem 0 .3rem; }
code, pre, .code { font: 13px/1.5 ui-monospace, "DejaVu Sans Mono", monospace; }
.wide { overflow-x: auto; } a { color: var(--link); } .soft { color: var(--soft); } .good { color: var(--good); } .half { color: var(--half); } .bad { color: var(--bad); }
table { border-collapse: collapse; } th, td { text-align: left; vertical-align: top; padding: .2rem .6rem; border-bottom: 1px solid var(--line); }
th { font-weight: 600; color: var(--soft); } thead th { background: var(--band); }
${style}
</style>
</head>
<body>
${body}
</body>
</html>
`;
}
