import type { Row } from "portier";
import { useState } from "react";
import { deleteRow, insertRow, type RowOutcome } from "./plan-api.js";

/** Something about a row that is to be agreed to before it is done. */
export interface RowQuestion {
  readonly title: string;
  readonly lines: readonly string[];
  readonly onYes: () => void;
}

export interface RowChanges {
  readonly question: RowQuestion | undefined;
  readonly leave: () => void;
  readonly insert: (position: number) => Promise<void>;
  /** So many at the end. */
  readonly append: (rows: readonly Row[], count: number) => Promise<void>;
  readonly drop: (row: Row) => Promise<void>;
}

/** Agreed to so far. */
interface Agreed {
  readonly confirmed: readonly string[];
  readonly acceptLost: boolean;
}

const nothing: Agreed = { confirmed: [], acceptLost: false };

/** Rows come and go, and ranges follow them; what is to be agreed to is asked. */
export function useRowChanges(onDone: (said: string) => Promise<void>, onRefused: (said: string) => void): RowChanges {
  const [question, setQuestion] = useState<RowQuestion>();

  const change = async (send: (agreed: Agreed) => Promise<RowOutcome>, done: string, agreed: Agreed) => {
    setQuestion(undefined);
    try {
      const outcome = await send(agreed);
      if (outcome.accepted) return await onDone(done);
      const ask = (title: string, lines: readonly string[], more: Agreed) =>
        setQuestion({ title, lines, onYes: () => void change(send, done, more) });
      if (outcome.reason === "lost-cells") {
        const lines = outcome.lost.map(
          ({ range, note }) => `${range} would no longer be protected${note === null ? "." : `: ${note}`}`,
        );
        return ask("Protected cells would be lost", lines, { ...agreed, acceptLost: true });
      }
      if (outcome.confirm !== undefined) {
        const lines = outcome.confirm.map(({ note }) => note ?? "Please confirm this.");
        const confirmed = [...agreed.confirmed, ...outcome.confirm.map(({ rule }) => rule)];
        return ask("Please confirm", lines, { ...agreed, confirmed });
      }
      return onRefused(outcome.refusals.map(({ message }) => message).join(" ") || "This may not be.");
    } catch (error) {
      return onRefused(error instanceof Error ? error.message : String(error));
    }
  };
  return {
    question,
    leave: () => setQuestion(undefined),
    insert: (position) =>
      change(({ confirmed }) => insertRow(position, confirmed), `Row ${position} inserted.`, nothing),
    append: (rows, count) => {
      const last = Math.max(0, ...rows.map((one) => Number(one["row"])));
      let made = 0;
      const send = async ({ confirmed }: Agreed): Promise<RowOutcome> => {
        for (;;) {
          const outcome = await insertRow(last + made + 1, confirmed);
          if (!outcome.accepted || ++made >= count) return outcome;
        }
      };
      const said = `${count} ${count === 1 ? "row" : "rows"} added: paste the block once more.`;
      return change(send, said, nothing);
    },
    drop: (row) =>
      change(
        ({ confirmed, acceptLost }) => deleteRow(String(row["id"]), confirmed, acceptLost),
        `Row ${row["row"]} deleted.`,
        nothing,
      ),
  };
}
