import type { Source } from "../conditions/source.js";
import type { ActionName } from "../rules/actions.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import type { Table } from "../schema/schema.js";
import { snapshotChecksum } from "./checksum.js";
import { decode, decodeTables, type Tables } from "./encoding.js";
import { Plan } from "./plan.js";
import { firstOnConsole, makeReading } from "./reading.js";
import type { RoleGuard } from "./role-guard.js";
import { noScreens, type ShownScreens } from "./screens.js";
import { Session } from "./session.js";
import type { Diagnostic } from "./session-options.js";
import type { SessionParts } from "./session-parts.js";
import type { StepData } from "./step.js";
import type { UserMessages } from "./user-messages.js";

/**
 * One person's residual plan as plain JSON: the shapes of some tables, and what is left of the rules for this person at
 * now. Nothing of rules that cannot apply to them, and nothing of anybody else. Made by `snapshotOf`, opened by
 * {@link openSnapshot}; what is inside may change with every version.
 */
export interface Snapshot {
  /** The version of the format; another is refused. */
  readonly portier: "snapshot 4";
  /** When it was made, as an instant. */
  readonly madeAt: string;
  /** Which rules it was made by, as the application calls them. */
  readonly version?: string;
  /** When it is not to be used any more, as an instant. */
  readonly expiresAt?: string;
  /** A check of all the rest: one that was cut or changed on its way is not opened. It keeps nobody from making another. */
  readonly check: string;
  /** The people's table; null where the document has none. */
  readonly people: string | null;
  /** The key of the one whose plan it is; null for a visitor. */
  readonly key: Scalar | null;
  /** The key of who acts for that person. */
  readonly actedBy?: string;
  readonly roles: readonly string[];
  readonly screens?: ShownScreens;
  /** By table, the names of the fields that roles come from. */
  readonly bearing?: Readonly<Record<string, readonly string[]>>;
  /** What the steps leave open, by slot; null for what they do not read. */
  readonly values: readonly (Scalar | null)[];
  readonly tables: readonly unknown[];
  /** By table and field, what a new record holds when nothing is given, where only the session knew. */
  readonly standard?: Readonly<Record<string, Readonly<Record<string, Scalar | null>>>>;
  /** Tables that conditions read and that are nobody's to see, such as that of the assignments. */
  readonly kept?: readonly unknown[];
  /** By table and action. */
  readonly steps: Readonly<Record<string, Readonly<Record<string, readonly unknown[]>>>>;
}

/** How a snapshot is opened. */
export interface SnapshotOptions {
  /** The rules that count: a snapshot of others is not opened. Default: of any. */
  readonly version?: string;
  /** Where conditions read other records; what needs one and has none is denied, and reported as a fault. */
  readonly source?: Source;
  /** Called for faults and bad data. Default: the first of them is a warning on the console. */
  readonly onDiagnostic?: (diagnostic: Diagnostic) => void;
  /** What end users read of a refused change, where no rule has a note for it. Default: English. */
  readonly messages?: Partial<UserMessages>;
}

/**
 * Opens a snapshot in a browser: the same questions get the same answers as from the session it was made of. What the
 * answers are worth is for the server to say: it judges every change again.
 *
 * @throws PortierError (`wrong-call`) for what is not a snapshot of this version, for one that is damaged, made by other rules than
 * `version` says, or past its end.
 */
export function openSnapshot(snapshot: Snapshot, options: SnapshotOptions = {}): Session {
  return new Session(partsFrom(snapshot, options));
}

export function partsFrom(snapshot: Snapshot, options: SnapshotOptions): SessionParts {
  const problem = problemOf(snapshot, options.version);
  if (problem !== undefined) throw portierError("wrong-call", { what: problem, hint: "make it anew with snapshotOf" });
  const onDiagnostic = options.onDiagnostic ?? firstOnConsole();
  const { kept = [] } = snapshot;
  const tables = decodeTables([...snapshot.tables, ...kept]);
  const seen = kept.length === 0 ? tables : new Map([...tables].slice(0, snapshot.tables.length));
  const steps = (table: Table, action: ActionName): readonly StepData[] => {
    const own = ownValue(ownValue(snapshot.steps, table.name) ?? {}, action) ?? [];
    return own.map((step) => decode(step, tables) as StepData);
  };
  const plan = new Plan({ tables: seen }, steps);
  const reading = makeReading(options.source, onDiagnostic);
  reading.values = snapshot.values.map((value) => value ?? undefined);
  return {
    people: snapshot.people ?? undefined,
    plan,
    decided: () => plan,
    key: snapshot.key,
    actedBy: snapshot.actedBy,
    roles: () => snapshot.roles,
    guard: () => guardOf(snapshot, tables),
    reading,
    standard: ({ table, name }) => ownValue(ownValue(snapshot.standard ?? {}, table) ?? {}, name),
    screens: () => snapshot.screens ?? noScreens,
    onDiagnostic,
    messages: options.messages,
    origin: undefined,
  };
}

export function problemOf(snapshot: Snapshot, version: string | undefined): string | undefined {
  if (snapshot?.portier !== "snapshot 4") return "this is not a snapshot of this version";
  const { check, expiresAt, ...content } = snapshot;
  if (check !== snapshotChecksum({ ...content, expiresAt }))
    return "this snapshot is damaged: it is not as it was made";
  if (version !== undefined && version !== snapshot.version) {
    return `this snapshot was made by other rules: ${snapshot.version ?? "it names none"}, not ${version}`;
  }
  const end = expiresAt === undefined ? undefined : Date.parse(expiresAt);
  return end !== undefined && end <= Date.now() ? `this snapshot ended at ${expiresAt}` : undefined;
}

/** Who holds what is not told to a browser: it accepts no change of it. The server judges. */
function guardOf({ bearing = {} }: Snapshot, tables: Tables): RoleGuard {
  return {
    bears: (table) => {
      const names = ownValue(bearing, table);
      const fields = (names ?? []).map((name) => tables.get(table)?.byName.get(name));
      return names && new Set(fields.filter((field) => field !== undefined));
    },
    refusal: () => "needs-source",
  };
}

/** Tables and actions are called what people like, `constructor` too. */
export function ownValue<V>(mapping: Readonly<Record<string, V>>, name: string): V | undefined {
  return Object.hasOwn(mapping, name) ? mapping[name] : undefined;
}
