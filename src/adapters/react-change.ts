import { useCallback, useMemo, useRef, useState } from "react";
import type { Row } from "../conditions/source.js";
import type { ChangeOptions, ChangeResult, Refusal } from "../session/change-result.js";
import type { Confirmation } from "../session/decision.js";
import type { Form } from "../session/form.js";

/** What a person has changed of a record, and not sent yet. */
export interface Draft {
  /** What to show: what the person has put in, and else what is stored now. */
  readonly values: Row;
  /** What to send: only what the person has put in, where it differs from what is stored now. */
  readonly changes: Row;
  /** Fields of `changes` that somebody else has changed since the person did. */
  readonly overtaken: readonly string[];
  /** Puts a value into a field. */
  set(name: string, value: unknown): void;
  /** Takes back what was put into a field, or into all. */
  reset(name?: string): void;
}

interface Put {
  readonly value: unknown;
  /** What was stored when it was put in. */
  readonly over: unknown;
}

/**
 * What the person changes in a form, apart from what is stored: where somebody else changes other fields meanwhile and the
 * form is a new one, those are shown as they are then, and not sent.
 *
 * @example
 * const draft = useDraft(form);
 * <input {...control} checked={draft.values.active === true} onChange={(e) => draft.set("active", e.target.checked)} />
 * await change.submit(draft.changes);
 */
export function useDraft(form: Form | undefined): Draft {
  const [puts, setPuts] = useState<Readonly<Record<string, Put>>>({});
  return useMemo(() => {
    const stored = new Map(form?.fields.map(({ name, value }) => [name, value]));
    const own = Object.entries(puts).filter(
      ([name, { value }]) => stored.has(name) && !isSame(value, stored.get(name)),
    );
    const changes = Object.fromEntries(own.map(([name, { value }]) => [name, value]));
    return {
      values: { ...Object.fromEntries(stored), ...changes },
      changes,
      overtaken: own.filter(([name, { over }]) => !isSame(over, stored.get(name))).map(([name]) => name),
      set: (name, value) =>
        setPuts((before) => ({
          ...before,
          [name]: { value, over: before[name] === undefined ? stored.get(name) : before[name].over },
        })),
      reset: (name) =>
        setPuts((before) =>
          name === undefined ? {} : Object.fromEntries(Object.entries(before).filter(([one]) => one !== name)),
        ),
    };
  }, [form, puts]);
}

function isSame(one: unknown, other: unknown): boolean {
  return JSON.stringify(one ?? null) === JSON.stringify(other ?? null);
}

/** Sends a change to where it is judged, such as a server. */
export type SendChange<V> = (values: V, options: Pick<ChangeOptions, "confirmed">) => Promise<ChangeResult>;

/** A change on its way: being judged, waiting for a confirmation, refused, or done. */
export interface Change<V> {
  /** Sends values; resolves with what became of them, also when that is a question. */
  submit(values: V): Promise<ChangeResult | undefined>;
  /**
   * `asking`: `asking` is to be answered by `confirm` or `cancel`. `refused`: `refusals` say why. `failed`: it was
   * not sent, or not answered.
   */
  readonly state: "idle" | "sending" | "asking" | "refused" | "done" | "failed";
  /** What is to be confirmed, while it is `asking`. */
  readonly asking: readonly Confirmation[];
  /** Sends the same values again, with what was asked confirmed. */
  confirm(): Promise<ChangeResult | undefined>;
  /** Leaves it: nothing is changed. */
  cancel(): void;
  /** What was refused or is not right, while it is `refused`. */
  readonly refusals: readonly Refusal[];
  /** The refusal of one field, for the message beside it. */
  refusalOf(field: string): Refusal | undefined;
  /** What sending failed with, while it is `failed`. */
  readonly error: unknown;
}

interface Pending<V> {
  readonly state: Change<V>["state"];
  readonly outcome?: ChangeResult;
  readonly error?: unknown;
}

const idle = { state: "idle" } as const;

/**
 * Sends a change, asks for what is to be confirmed, and sends it again. Values that are sent meanwhile take the place of
 * earlier ones: an answer that comes late is not shown.
 *
 * @example
 * const change = useChange((values, options) => api.edit("objects", key, values, options));
 * await change.submit({ shelf: "N1-04" });
 */
export function useChange<V>(send: SendChange<V>): Change<V> {
  const [pending, setPending] = useState<Pending<V>>(idle);
  const latest = useRef(0);
  const sent = useRef<{ readonly values: V; readonly confirmed: readonly string[] } | undefined>(undefined);
  const run = useCallback(
    async (values: V, confirmed: readonly string[]): Promise<ChangeResult | undefined> => {
      const turn = ++latest.current;
      sent.current = { values, confirmed };
      setPending({ state: "sending" });
      try {
        const outcome = await send(values, confirmed.length === 0 ? {} : { confirmed });
        if (turn !== latest.current) return undefined;
        const state = outcome.accepted ? "done" : outcome.reason === "unconfirmed" ? "asking" : "refused";
        setPending({ state, outcome });
        return outcome;
      } catch (error) {
        if (turn === latest.current) setPending({ state: "failed", error });
        return undefined;
      }
    },
    [send],
  );
  const { state, outcome, error } = pending;
  const asking = outcome !== undefined && !outcome.accepted ? (outcome.confirm ?? []) : [];
  const refusals = outcome === undefined ? [] : outcome.accepted ? outcome.dropped : outcome.refusals;
  return {
    submit: (values) => run(values, []),
    state,
    asking,
    confirm: async () => {
      if (state !== "asking" || sent.current === undefined) return undefined;
      const { values, confirmed } = sent.current;
      return run(values, [...confirmed, ...asking.map(({ rule }) => rule)]);
    },
    cancel: () => {
      latest.current++;
      setPending(idle);
    },
    refusals,
    refusalOf: (field) => refusals.find((one) => one.field === field),
    error,
  };
}
