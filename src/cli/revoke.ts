import { type ChangeRolesOptions, changeRoles } from "./change-roles.js";
import type { CliCommand } from "./command.js";
import { declareData } from "./store.js";

export const revokeCommand: CliCommand<ChangeRolesOptions> = {
  usage: "revoke <file> <person> <role>",
  summary: "Revoke an assigned role, now or later, after showing what the person loses by it",
  declare: (command) => {
    declareData(command);
    command
      .option("--as <person>", "who revokes it: one of those in the role's assignableBy")
      .option("--on <record>", "the key of the record that a scoped role is held on")
      .option("--until <date>", "when it ends, instead of now: a date or an instant, or never")
      .option("--reason <text>", "why; kept in the audit log")
      .option("--preview", "print what would change, and change nothing")
      .option("--confirm", "make the change although there are warnings");
  },
  run: ([file = "", person = "", role = ""], options, io) => {
    const { on, until, reason } = options;
    const held = { person, role, on, reason };
    if (until === undefined) return changeRoles(file, { kind: "revoke", ...held }, options, io);
    return changeRoles(file, { kind: "set-expiry", ...held, until: until === "never" ? null : until }, options, io);
  },
};
