import type { Row, Session } from "portier";

/** How a cell stands to who looks at it. */
export interface CellState {
  /** `open`: may be edited; `asks`: after a question; `locked`: a range holds it; `closed`: not theirs to edit; `hidden`. */
  readonly kind: "open" | "asks" | "locked" | "closed" | "hidden";
  /** What is protected, and why. */
  readonly note: string | undefined;
}

/** Marks that say the same as the colours. */
export const marks: Readonly<Record<CellState["kind"], string>> = {
  open: "may be edited",
  asks: "may be edited after a question",
  locked: "locked",
  closed: "read only",
  hidden: "hidden",
};

/** How cells stand to the person, each worked out once while session and record are the same. */
export function cellStates(session: Session): (record: Row, field: string) => CellState {
  const known = new WeakMap<Row, Map<string, CellState>>();
  return (record, field) => {
    const ofRecord = known.get(record) ?? new Map<string, CellState>();
    known.set(record, ofRecord);
    const state = ofRecord.get(field) ?? stateOf(session, record, field);
    ofRecord.set(field, state);
    return state;
  };
}

function stateOf(session: Session, record: Row, field: string): CellState {
  if (!Object.hasOwn(record, field)) return { kind: "hidden", note: undefined };
  const { permitted, note, confirm } = session.decide("edit", "plan", record, field);
  if (!permitted) return { kind: note === undefined ? "closed" : "locked", note };
  const [question] = confirm ?? [];
  return question === undefined ? { kind: "open", note: undefined } : { kind: "asks", note: question.note };
}
