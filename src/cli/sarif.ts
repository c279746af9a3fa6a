import { relative } from "node:path";
import type { Problem } from "../schema/problems.js";

/** Something that was found in a file, for tools that show results beside the lines they are about. */
export interface SarifResult {
  readonly code: string;
  readonly level: "error" | "warning";
  readonly message: string;
  /** As it was named on the command line. */
  readonly file: string;
  /** 1-based. */
  readonly line?: number | undefined;
  readonly column?: number | undefined;
}

/** A problem as a finding; `file` is where it counts that has no place of its own. */
export function resultOf(
  { code, message, hint, ...place }: Problem,
  level: SarifResult["level"],
  file: string,
): SarifResult {
  const text = hint === undefined ? message : `${message} ${hint}`;
  return { code, level, message: text, file: place.file ?? file, line: place.line, column: place.column };
}

/** SARIF 2.1.0 (OASIS), without times, so that equal results are equal texts. Columns count UTF-16 units. */
export function sarif(findings: readonly SarifResult[]): string {
  const codes = [...new Set(findings.map(({ code }) => code))].sort();
  const log = {
    $schema: "https://json.schemastore.org/sarif-2.1.0.json",
    version: "2.1.0",
    runs: [
      {
        tool: { driver: { name: "portier", rules: codes.map((id) => ({ id })) } },
        columnKind: "utf16CodeUnits",
        results: findings.map(({ code, level, message, file, line, column }) => ({
          ruleId: code,
          ruleIndex: codes.indexOf(code),
          level,
          message: { text: message },
          locations: [
            {
              physicalLocation: {
                artifactLocation: { uri: uriOf(file) },
                ...(line === undefined ? {} : { region: { startLine: line, startColumn: column ?? 1 } }),
              },
            },
          ],
        })),
      },
    ],
  };
  return `${JSON.stringify(log, null, 2)}\n`;
}

/** Relative to where the command runs, with slashes and escapes, as an artifact's address is. */
function uriOf(file: string): string {
  const path = relative(process.cwd(), file).replaceAll("\\", "/");
  return path.split("/").map(encodeURIComponent).join("/");
}
