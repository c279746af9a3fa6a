import { execFileSync } from "node:child_process";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";

/** The compilers of TypeScript that the package's declarations are for. */
export const compilers = {
  "5.9": "test/clients/node_modules/typescript/bin/tsc",
  7: "node_modules/typescript-7/bin/tsc",
};

/**
 * What the compiler says of programs that use the built package, declarations included; nothing where they are right. `beside`: what
 * they import from their own folder, by file.
 */
export function typechecked(
  programs: readonly string[],
  options: object = {},
  compiler = compilers[7],
  beside: Readonly<Record<string, string>> = {},
): string {
  const folder = mkdtempSync("test/clients/made-");
  try {
    for (const [name, text] of Object.entries(beside)) writeFileSync(join(folder, name), text);
    const files = programs.map((_, index) => `use-${index}.ts`);
    for (const [index, program] of programs.entries()) writeFileSync(join(folder, `use-${index}.ts`), program);
    const compilerOptions = {
      ...{ strict: true, noEmit: true, skipLibCheck: false, target: "es2023", module: "nodenext" },
      ...{ lib: ["es2023", "dom", "dom.iterable", "esnext.disposable"], types: ["node"] },
      ...options,
    };
    writeFileSync(join(folder, "tsconfig.json"), JSON.stringify({ compilerOptions, files }));
    execFileSync(process.execPath, [compiler, "-p", folder], { encoding: "utf8", stdio: ["ignore", "pipe", "pipe"] });
    return "";
  } catch (error) {
    const { stdout } = error as { stdout?: string };
    if (stdout === undefined) throw error;
    return stdout;
  } finally {
    rmSync(folder, { recursive: true });
  }
}
