import { type ChangeRolesOptions, changeRoles } from "./change-roles.js";
import type { CliCommand } from "./command.js";
import { declareData } from "./store.js";

export const revokeCommand: CliCommand = {
  usage: "revoke <file> <person> <role>",
  summary: "takes a role away that was assigned, now or at a time, after saying what is lost by it",
  declare: (command) => {
    declareData(command);
    command
      .option("--as <person>", "who takes it: whoever may give the role")
      .option("--on <record>", "the key of the record that a scoped role is held on")
      .option("--until <date>", "the day or moment at which it ends, instead of now; never for no end")
      .option("--reason <text>", "why, for the record")
      .option("--preview", "only say what would come of it")
      .option("--confirm", "do it although there are warnings");
  },
  run: ([file = "", person = "", role = ""], given, io) => {
    const options = given as unknown as ChangeRolesOptions;
    const { on, until, reason } = options;
    const held = { person, role, on, reason };
    if (until === undefined) return changeRoles(file, { kind: "revoke", ...held }, options, io);
    return changeRoles(file, { kind: "limit", ...held, until: until === "never" ? null : until }, options, io);
  },
};
