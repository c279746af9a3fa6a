/** A tag of an XML text: where it stands, its name without prefix, and its attributes as they are written. */
export interface Tag {
  readonly from: number;
  readonly to: number;
  readonly name: string;
  readonly prefix: string;
  readonly attributes: string;
  /** `end`: `</c>`; `empty`: `<c/>`. */
  readonly kind: "start" | "end" | "empty";
}

const tag =
  /<!--[\s\S]*?-->|<!\[CDATA\[[\s\S]*?\]\]>|<(\/?)(?:([\w.-]+):)?([\w.-]+)((?:\s+[\w:.-]+\s*=\s*(?:"[^"]*"|'[^']*'))*)\s*(\/?)>/g;

/** The tags of a text, one after the other; what stands in comments and in CDATA is text. */
export function* tagsIn(xml: string): Generator<Tag> {
  for (const found of xml.matchAll(tag)) {
    const [text, slash, prefix = "", name, attributes = "", end] = found;
    if (name === undefined) continue;
    const kind = slash === "/" ? "end" : end === "/" ? "empty" : "start";
    yield { from: found.index, to: found.index + text.length, name, prefix, attributes, kind };
  }
}

/** An attribute's value; undefined where it is not there. */
export function attribute({ attributes }: Pick<Tag, "attributes">, name: string): string | undefined {
  const found = new RegExp(`(?:^|\\s)${name}\\s*=\\s*(?:"([^"]*)"|'([^']*)')`).exec(attributes);
  const value = found?.[1] ?? found?.[2];
  return value === undefined ? undefined : unescaped(value);
}

/** The attributes with another value for one of them. */
export function withAttribute(attributes: string, name: string, value: string): string {
  const pattern = new RegExp(`(^|\\s)${name}\\s*=\\s*(?:"[^"]*"|'[^']*')`);
  const written = `${name}="${escaped(value)}"`;
  return pattern.test(attributes)
    ? attributes.replace(pattern, (_, before: string) => `${before}${written}`)
    : `${attributes} ${written}`;
}

export function isOn(value: string | undefined): boolean {
  return value === "1" || value === "true";
}

const signs: Readonly<Record<string, string>> = { amp: "&", lt: "<", gt: ">", quot: '"', apos: "'" };

function unescaped(text: string): string {
  return text.replaceAll(
    /&(?:#(\d+)|#x([0-9a-fA-F]+)|(\w+));/g,
    (whole, number?: string, hex?: string, name?: string) => {
      const code = number === undefined ? (hex === undefined ? undefined : Number.parseInt(hex, 16)) : Number(number);
      if (code !== undefined) return code <= 0x10ffff ? String.fromCodePoint(code) : whole;
      return signs[name ?? ""] ?? whole;
    },
  );
}

export function escaped(text: string): string {
  return text
    .replaceAll("&", "&amp;")
    .replaceAll("<", "&lt;")
    .replaceAll(">", "&gt;")
    .replaceAll('"', "&quot;")
    .replaceAll(/[\n\r\t]/g, (sign) => `&#${sign.charCodeAt(0)};`);
}
