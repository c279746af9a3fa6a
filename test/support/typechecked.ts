import { execFileSync } from "node:child_process";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";

/** What the compiler says of programs that use the built package, declarations included; nothing where they are right. */
export function typechecked(programs: readonly string[], options: object = {}): string {
  const folder = mkdtempSync("test/clients/made-");
  try {
    const files = programs.map((_, index) => `use-${index}.ts`);
    for (const [index, program] of programs.entries()) writeFileSync(join(folder, `use-${index}.ts`), program);
    const compilerOptions = {
      ...{ strict: true, noEmit: true, skipLibCheck: false, target: "es2023", module: "nodenext" },
      ...{ lib: ["es2023", "dom", "dom.iterable", "esnext.disposable"], types: ["node"] },
      ...options,
    };
    writeFileSync(join(folder, "tsconfig.json"), JSON.stringify({ compilerOptions, files }));
    execFileSync("npx", ["tsc", "-p", folder], { encoding: "utf8", stdio: ["ignore", "pipe", "pipe"] });
    return "";
  } catch (error) {
    const { stdout } = error as { stdout?: string };
    if (stdout === undefined) throw error;
    return stdout;
  } finally {
    rmSync(folder, { recursive: true });
  }
}
