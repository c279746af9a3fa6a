import { quietly, type Reading } from "../conditions/read.js";
import type { Yes } from "../conditions/yes.js";
import type { ActionName } from "../rules/actions.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { Field } from "../schema/schema.js";
import type { Answers } from "./answers.js";
import type { Residual } from "./bound.js";
import type { ChangeContext } from "./change-context.js";
import { faulted } from "./decision.js";
import type { Decide } from "./gate.js";
import type { OpenedSubject } from "./open-subject.js";
import type { Plan } from "./plan.js";
import type { MakeRoleGuard, SessionOrigin, SessionParts } from "./session-parts.js";
import { messagesOf } from "./user-messages.js";

/** The last question of a kind, with what answers it: most are asked of one record or field after the other. */
export interface Asked<A> {
  action: ActionName;
  table: string;
  field: string | symbol | undefined;
  answers: Answers | undefined;
  answer: A;
}

/** Neither a field nor the record as a whole. */
export const noField = Symbol("no field");

/** What a session is for the functions that ask it: its parts, and what they keep from one question to the next. */
export class SessionState implements Residual {
  readonly parts: SessionParts;
  readonly reading: Reading;
  readonly lastYes: Asked<Yes> = nothingAsked(() => false);
  readonly lastDecision: Asked<Decide> = nothingAsked(() => faulted);
  /** Judges changes of who holds what, for a session that was opened without. */
  makeGuard: MakeRoleGuard | undefined;
  #changing: ChangeContext | undefined;

  constructor(parts: SessionParts) {
    this.parts = parts;
    this.reading = parts.reading;
  }

  /** What is left of the rules for all who are alike but for {@link values}. */
  get plan(): Plan {
    return this.parts.plan;
  }

  get values(): Residual["values"] {
    return this.reading.values;
  }

  get changing(): ChangeContext {
    if (this.#changing !== undefined) return this.#changing;
    const { people, plan, key, reading } = this.parts;
    // One change can alter for the next what is the same for all records.
    const anew: Reading = { ...reading, decided: undefined };
    const later = quietly(reading);
    const standard = (field: Field) => this.parts.standard(field);
    const roles = this.parts.guard(this.makeGuard);
    const messages = messagesOf(this.parts.messages);
    this.#changing = { people, plan, key, reading: anew, standard, later, roles, messages };
    return this.#changing;
  }

  get ruleset(): Ruleset {
    return this.#origin.ruleset;
  }

  get subject(): OpenedSubject {
    return this.#origin.subject;
  }

  get #origin(): SessionOrigin {
    const { origin } = this.parts;
    if (origin !== undefined) return origin;
    throw new TypeError("this session was made from a snapshot, which keeps no rules to look at");
  }

  /** Deciding fails closed: whatever goes wrong inside is reported and answered by a denial. */
  guard<A>(decide: () => A, denial: A): A {
    try {
      return decide();
    } catch (error) {
      this.reportFault(error);
      return denial;
    }
  }

  reportFault(error: unknown): void {
    this.reading.fault(error);
  }
}

function nothingAsked<A>(answer: A): Asked<A> {
  return { action: "view", table: "", field: noField, answers: undefined, answer };
}
