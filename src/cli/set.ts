import { settingLevels } from "../schema/schema.js";
import { type ChangeRolesOptions, changeRoles } from "./change-roles.js";
import type { CliCommand } from "./command.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { declareData } from "./store.js";

interface SetOptions extends ChangeRolesOptions {
  readonly record?: string;
}

export const setCommand: CliCommand<SetOptions> = {
  usage: "set <file> <person> <field> <level>",
  summary: "Set how far a person may go with one field (TABLE.FIELD): none, view, edit, or unset",
  declare: (command) => {
    declareData(command);
    command
      .option("--as <person>", "who sets it: one of those in settableBy of the settings")
      .option("--record <key>", "the key of the one record that it is about (default: all records)")
      .option("--reason <text>", "why; kept in the audit log")
      .option("--preview", "print what would change, and change nothing")
      .option("--confirm", "make the change although there are warnings");
  },
  run: ([file = "", person = "", field = "", level = ""], options, io) =>
    runSet(file, person, field, level, options, io),
};

function runSet(
  file: string,
  person: string,
  named: string,
  text: string,
  options: SetOptions,
  io: Io,
): Promise<ExitCode> {
  const [table = "", field, ...more] = named.split(".");
  if (field === undefined || more.length > 0) throw new CliError(`"${named}" is not a field: write TABLE.FIELD`);
  const level = settingLevels.find((one) => one === text);
  if (level === undefined && text !== "unset")
    throw new CliError(`"${text}" is not a level: write none, view, edit or unset`);
  const { record, reason } = options;
  const change = { kind: "set", person, table, field, level: level ?? null, record, reason } as const;
  return changeRoles(file, change, options, io);
}
