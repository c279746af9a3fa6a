import {
  createContext,
  createElement,
  type ReactElement,
  type ReactNode,
  useCallback,
  useContext,
  useId,
  useMemo,
  useRef,
  useState,
} from "react";
import type { Row, Source } from "../conditions/source.js";
import type { AnyTables, TableTypes } from "../schema/table-types.js";
import type { Acceptance, ChangeOptions, Refusal } from "../session/acceptance.js";
import type { Confirmation } from "../session/decision.js";
import type { Form, FormField } from "../session/form.js";
import type { Session } from "../session/session.js";
import { openSnapshot, type Snapshot } from "../session/snapshot.js";

const SessionContext = createContext<Session | undefined>(undefined);

/** A session, or a snapshot of one that a server made. */
export type PortierProviderProps =
  | { readonly session: Session<never> | Session; readonly children?: ReactNode }
  | { readonly snapshot: Snapshot; readonly source?: Source; readonly children?: ReactNode };

/**
 * Gives the session of who is signed in to everything below. Where it is another one, such as after a role was taken
 * away, everything below asks again.
 *
 * Nothing here is an effect: what is rendered on a server is what a browser renders first.
 */
export function PortierProvider(props: PortierProviderProps): ReactElement {
  const { children } = props;
  const given = "session" in props ? (props.session as Session) : undefined;
  const snapshot = "snapshot" in props ? props.snapshot : undefined;
  const source = "snapshot" in props ? props.source : undefined;
  const session = useMemo(
    () => given ?? openSnapshot(snapshot as Snapshot, source === undefined ? {} : { source }),
    [given, snapshot, source],
  );
  return createElement(SessionContext, { value: session }, children);
}

/**
 * The session of who is signed in.
 *
 * @throws Error outside of a {@link PortierProvider}: nothing is permitted by default.
 */
export function usePortier<T extends TableTypes = AnyTables>(): Session<T> {
  const session = useContext(SessionContext);
  if (session === undefined) throw new Error("there is no PortierProvider around this component");
  return session as unknown as Session<T>;
}

/**
 * May the person do it: on this record, on this field of it; without a record, on any record at all?
 *
 * @example
 * const mayDelete = useMay("delete", "objects", object);
 */
export function useMay(action: string, table: string, record?: Row, field?: string): boolean {
  const session = usePortier();
  return useMemo(
    () =>
      record === undefined ? session.reach(action, table, field) !== "none" : session.may(action, table, record, field),
    [session, action, table, record, field],
  );
}

/** What a page needs to show and change a stored record, or without one to make one; undefined for one that is not known. */
export function useAccessForm(table: string, record?: Row): Form | undefined {
  const session = usePortier();
  return useMemo(() => session.form(table, record), [session, table, record]);
}

/** What an input is given to stand for a field: spread it on an `input`, `select` or `textarea`, beside a form library's own. */
export interface FieldControl {
  readonly id: string;
  readonly name: string;
  /** Seen and not to be changed. */
  readonly readOnly: boolean;
  /** What cannot be read-only in HTML, such as a `select`, is disabled instead: `disabled={control.readOnly}`. */
  readonly required: boolean;
  readonly "aria-describedby"?: string;
}

/** A field of a form as a person stands to it. */
export interface AccessField extends FormField {
  readonly control: FieldControl;
  /** The id of the element that is to show the note, where there is one. */
  readonly noteId: string | undefined;
}

/** One field of a form; undefined where the record or the field is not known, or is neither seen nor to be set. */
export function useAccessField(form: Form | undefined, name: string): AccessField | undefined {
  const id = useId();
  return useMemo(() => {
    const field = form?.fields.find((one) => one.name === name);
    if (field === undefined || field.state === "hidden") return undefined;
    const noteId = field.note === undefined && field.confirm === undefined ? undefined : `${id}note`;
    const control: FieldControl = {
      id,
      name,
      readOnly: field.state === "read-only",
      required: field.required,
      ...(noteId === undefined ? {} : { "aria-describedby": noteId }),
    };
    return { ...field, control, noteId };
  }, [form, name, id]);
}

/** The values that the person may put into a field; undefined for a field that takes any. */
export function useChoices(
  table: string,
  field: string,
  record?: Row,
): readonly (string | number | boolean)[] | undefined {
  const session = usePortier();
  return useMemo(() => session.choices(table, field, record), [session, table, field, record]);
}

/** The screens that the person is shown, and where they land. */
export function useScreens(): { readonly screens: readonly string[]; readonly home: string | undefined } {
  const session = usePortier();
  return useMemo(() => ({ screens: session.screens(), home: session.home() }), [session]);
}

/** Sends a change to where it is judged, such as a server. */
export type SendChange<V> = (values: V, options: Pick<ChangeOptions, "confirmed">) => Promise<Acceptance>;

/** A change on its way: being judged, waiting for a confirmation, refused, or done. */
export interface Change<V> {
  /** Sends values; resolves with what became of them, also when that is a question. */
  submit(values: V): Promise<Acceptance | undefined>;
  readonly state: "idle" | "sending" | "asking" | "refused" | "done" | "failed";
  /** What is to be confirmed, while it is `asking`. */
  readonly asking: readonly Confirmation[];
  /** Sends the same values again, with what was asked confirmed. */
  confirm(): Promise<Acceptance | undefined>;
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
  readonly outcome?: Acceptance;
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
    async (values: V, confirmed: readonly string[]): Promise<Acceptance | undefined> => {
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

export interface MayProps {
  readonly action: string;
  readonly table: string;
  readonly record?: Row;
  readonly field?: string;
  /** What stands there for whoever may not. Default: nothing. */
  readonly otherwise?: ReactNode;
  readonly children?: ReactNode;
}

/** Shows its children to whom it is permitted. */
export function May({ action, table, record, field, otherwise = null, children }: MayProps): ReactNode {
  return useMay(action, table, record, field) ? children : otherwise;
}

/** Shows its children to whom the screen is shown. */
export function OnScreen({
  name,
  otherwise = null,
  children,
}: {
  readonly name: string;
  readonly otherwise?: ReactNode;
  readonly children?: ReactNode;
}): ReactNode {
  return useScreens().screens.includes(name) ? children : otherwise;
}

export interface AccessFieldsProps {
  readonly form: Form | undefined;
  /** Which fields, in this order. Default: all of the table, in its order. */
  readonly names?: readonly string[];
  /** Draws one field; one that is hidden is not drawn. */
  readonly children: (field: AccessField) => ReactNode;
}

/** Draws the fields of a form that the person sees or may set, one after the other. */
export function AccessFields({ form, names, children }: AccessFieldsProps): ReactNode {
  const wanted = names ?? form?.fields.map(({ name }) => name) ?? [];
  return wanted.map((name) => createElement(OneField, { key: name, form, name, draw: children }));
}

interface OneFieldProps {
  readonly form: Form | undefined;
  readonly name: string;
  readonly draw: (field: AccessField) => ReactNode;
}

function OneField({ form, name, draw }: OneFieldProps): ReactNode {
  const field = useAccessField(form, name);
  return field === undefined ? null : draw(field);
}
