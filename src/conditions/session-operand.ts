import { printFieldPath } from "../schema/schema.js";
import type { Operand, SessionOperand } from "./expression.js";

export function isSessionOperand(operand: Operand): operand is SessionOperand {
  return ["me", "held", "request", "today"].includes(operand.kind);
}

/** `me.department`, `editor of`, `request.site`, `today`: one name for each thing that a session knows. */
export function sessionOperandName(operand: SessionOperand): string {
  switch (operand.kind) {
    case "me":
      return `me.${printFieldPath(operand.path)}`;
    case "held":
      return `${operand.role} of`;
    case "request":
      return `request.${operand.name}`;
    case "today":
      return "today";
    default:
      return operand satisfies never;
  }
}
