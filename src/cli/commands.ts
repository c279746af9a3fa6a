import type { CliCommand } from "./command.js";

/** The commands in the order in which help lists them. Each is loaded when it is called: most need little of the others. */
export const commands: Readonly<Record<string, () => Promise<CliCommand>>> = {
  lint: async () => (await import("./lint.js")).lintCommand,
  matrix: async () => (await import("./matrix.js")).matrixCommand,
  members: async () => (await import("./members.js")).membersCommand,
  assign: async () => (await import("./assign.js")).assignCommand,
  revoke: async () => (await import("./revoke.js")).revokeCommand,
  set: async () => (await import("./set.js")).setCommand,
  protections: async () => (await import("./protect.js")).protectionsCommand,
  protect: async () => (await import("./protect.js")).protectCommand,
  unprotect: async () => (await import("./protect.js")).unprotectCommand,
  delegate: async () => (await import("./delegate.js")).delegateCommand,
  audit: async () => (await import("./audit.js")).auditCommand,
  show: async () => (await import("./show.js")).showCommand,
  explain: async () => (await import("./explain.js")).explainCommand,
  test: async () => (await import("./test.js")).testCommand,
  diff: async () => (await import("./diff.js")).diffCommand,
  observed: async () => (await import("./observed.js")).observedCommand,
  report: async () => (await import("./report.js")).reportCommand,
  sql: async () => (await import("./sql.js")).sqlCommand,
  compile: async () => (await import("./compile.js")).compileCommand,
  import: async () => (await import("./import.js")).importCommand,
  inspect: async () => (await import("./inspect.js")).inspectCommand,
};

export function allCommands(): Promise<readonly CliCommand[]> {
  return Promise.all(Object.values(commands).map((load) => load()));
}

/** What a call needs: the command that it names; all of them, where it asks what there is or names none. */
export async function commandsFor([name = ""]: readonly string[]): Promise<readonly CliCommand[]> {
  if (name === "--version" || name === "-v") return [];
  const load = Object.hasOwn(commands, name) ? commands[name] : undefined;
  return load === undefined ? allCommands() : [await load()];
}
