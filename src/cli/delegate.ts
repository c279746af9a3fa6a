import { type ChangeRolesOptions, changeRoles } from "./change-roles.js";
import type { CliCommand } from "./command.js";
import { declareData } from "./store.js";

interface DelegateOptions extends ChangeRolesOptions {
  readonly of?: string;
  readonly without?: readonly string[];
  readonly end?: true;
}

export const delegateCommand: CliCommand<DelegateOptions> = {
  usage: "delegate <file> <person>",
  summary: "Let a person act for another for a time, or end it",
  declare: (command) => {
    declareData(command);
    command
      .option(
        "--as <person>",
        "who delegates: the other person themselves, or somebody who may assign all of their roles",
      )
      .option("--of <person>", "the person they act for (default: the one in --as)")
      .option("--from <date>", "when it begins: a date or an instant (default: now)")
      .option("--until <date>", "when it ends: a date or an instant (default: never)")
      .option("--without <role...>", "roles to leave out")
      .option("--end", "end the delegation now")
      .option("--reason <text>", "why; kept in the audit log")
      .option("--preview", "print what would change, and change nothing")
      .option("--confirm", "make the change although there are warnings");
  },
  run: ([file = "", to = ""], options, io) => {
    const { of, from, until, without, end, reason } = options;
    if (end) return changeRoles(file, { kind: "end-delegation", of, to, reason }, options, io);
    return changeRoles(file, { kind: "delegate", of, to, from, until, without, reason }, options, io);
  },
};
