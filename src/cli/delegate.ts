import { type ChangeRolesOptions, changeRoles } from "./change-roles.js";
import type { CliCommand } from "./command.js";
import { declareData } from "./store.js";

interface DelegateOptions extends ChangeRolesOptions {
  readonly of?: string;
  readonly without?: readonly string[];
  readonly end?: true;
}

export const delegateCommand: CliCommand = {
  usage: "delegate <file> <person>",
  summary: "lets a person act for another for a time, or no longer",
  declare: (command) => {
    declareData(command);
    command
      .option("--as <person>", "who lets them: the other themselves, or whoever may give all that they hold")
      .option("--of <person>", "for whom they act (default: whoever lets them)")
      .option("--from <date>", "the day or moment from which it runs")
      .option("--until <date>", "the day or moment at which it ends")
      .option("--without <role...>", "roles that are not acted in")
      .option("--end", "it ends now")
      .option("--reason <text>", "why, for the record")
      .option("--preview", "only say what would come of it")
      .option("--confirm", "do it although there are warnings");
  },
  run: ([file = "", to = ""], given, io) => {
    const options = given as unknown as DelegateOptions;
    const { of, from, until, without, end, reason } = options;
    if (end) return changeRoles(file, { kind: "end", of, to, reason }, options, io);
    return changeRoles(file, { kind: "delegate", of, to, from, until, without, reason }, options, io);
  },
};
