import { administration } from "../people/administration.js";
import { type ChangeRolesOptions, changeRoles } from "./change-roles.js";
import type { CliCommand } from "./command.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { palette } from "./paint.js";
import { declareData, withStore } from "./store.js";

interface AssignOptions extends ChangeRolesOptions {
  readonly first?: true;
  readonly insteadOf?: string;
}

export const assignCommand: CliCommand = {
  usage: "assign <file> <person> <role>",
  summary: "gives a role to a person, after saying what they gain by it",
  declare: (command) => {
    declareData(command);
    command
      .option("--as <person>", "who gives it: what they may give is what the role's assignableBy says")
      .option("--on <record>", "the key of the record that a scoped role is given on")
      .option("--instead-of <role>", "the role that is taken away in the same act")
      .option("--from <date>", "the day or moment from which it counts")
      .option("--until <date>", "the day or moment at which it ends")
      .option("--reason <text>", "why, for the record")
      .option("--preview", "only say what would come of it")
      .option("--confirm", "do it although there are warnings")
      .option("--first", "in nobody's name, for a role that nobody can give yet");
  },
  run: ([file = "", person = "", role = ""], options, io) =>
    runAssign(file, person, role, options as unknown as AssignOptions, io),
};

function runAssign(file: string, person: string, role: string, options: AssignOptions, io: Io): Promise<ExitCode> {
  const { on, from, until, reason, first, insteadOf } = options;
  if (insteadOf !== undefined) {
    if (from !== undefined || first === true)
      throw new CliError("--instead-of counts at once: leave out --from and --first");
    const end = until === "never" ? null : until;
    return changeRoles(file, { kind: "replace", person, role, insteadOf, on, until: end, reason }, options, io);
  }
  const given = { person, role, on, from, until, reason };
  if (first !== true) return changeRoles(file, { kind: "assign", ...given }, options, io);
  return withStore(file, options, "write", async ({ portier, store, nameOf }) => {
    const outcome = await administration(portier, store).first(given);
    if (options.format === "json") io.out(`${JSON.stringify({ changed: outcome.accepted, outcome }, null, 2)}\n`);
    else if (outcome.accepted) io.out(`${palette(io).yes("done")}  ${await nameOf(person)} is the first ${role}\n`);
    else for (const { message } of outcome.problems) io.out(`${palette(io).no("refused")}  ${message}\n`);
    return outcome.accepted ? 0 : 1;
  });
}
