import type { Row } from "../../conditions/source.js";
import type { ActionName } from "../../rules/actions.js";
import { recordAddress } from "../../schema/address.js";
import type { Table } from "../../schema/schema.js";
import type { Portier } from "../../session/portier.js";
import type { Session } from "../../session/session.js";
import { matrixActions } from "../matrix.js";
import { PermittedSets } from "../permitted-sets.js";
import { sizeOf } from "../record-sets.js";
import type { Viewer } from "../viewers.js";

/** An expectation as it is written in a file. */
export interface Proposal {
  readonly as: string;
  readonly on: string;
  readonly count?: Readonly<Record<string, number>>;
  readonly exactly?: Readonly<Record<string, readonly string[]>>;
  readonly may?: Readonly<Record<string, "yes">>;
  readonly mayNot?: Readonly<Record<string, "yes">>;
}

/** What holds now for somebody, and for all who are equal to them. */
export interface ProposedGroup {
  /** The one whom the expectations name, then the others for whom all of it holds alike. */
  readonly persons: readonly string[];
  readonly proposals: readonly Proposal[];
}

/**
 * Expectations that say what holds now, for people to review: how many records each may do what with, and of each kind of
 * record, as they see it, one with the fields that they may list, view and edit. Persons for whom all of it is equal, but
 * for which records it is about, share a group.
 */
export function proposeExpectations(
  portier: Portier,
  viewers: readonly Viewer[],
  records: (table: string) => Iterable<Row>,
): ProposedGroup[] {
  const groups = new Map<string, { persons: string[]; proposals: readonly Proposal[] }>();
  const tables = [...portier.schema.tables.values()].map((table) => {
    const rows = [...records(table.name)];
    return { table, rows, sets: new PermittedSets(table.name, rows) };
  });
  for (const { id, session } of viewers) {
    const proposals = tables.flatMap((one) => proposalsOf(portier, id, session, one));
    const key = JSON.stringify(proposals.map(({ as: _as, on, ...rest }) => ({ ...rest, on: on.split("/")[0] })));
    const group = groups.get(key);
    if (group === undefined) groups.set(key, { persons: [id], proposals });
    else group.persons.push(id);
  }
  return [...groups.values()];
}

const ofFields: readonly ActionName[] = ["list", "view", "edit", "export", "bulk"];

interface ProposedTable {
  readonly table: Table;
  readonly rows: readonly Row[];
  readonly sets: PermittedSets;
}

function proposalsOf(portier: Portier, as: string, session: Session, { table, rows, sets }: ProposedTable): Proposal[] {
  const actions = matrixActions(portier, table.name);
  const made = actions.filter((action) => action === "create" || action === "import");
  const stored = actions.filter((action) => !made.includes(action));
  const count = Object.fromEntries(stored.map((action) => [action, sizeOf(sets.permitted(session, action))]));
  const [may, mayNot] = [true, false].map((wanted) =>
    yes(made.filter((action) => (session.reach(action, table.name) !== "none") === wanted)),
  );
  const news = made.map((action) => [action, newFields(session, action, table)] as const);
  const exactlyNew = news.length === 0 ? {} : { exactly: Object.fromEntries(news) };
  const whole: Proposal = { as, on: table.name, count, ...exactlyNew, ...(may && { may }), ...(mayNot && { mayNot }) };
  const shown = ofFields.filter((action) => stored.includes(action));
  const kinds = new Map<string, Proposal>();
  for (const row of rows) {
    const exactly = Object.fromEntries(shown.map((action) => [action, fieldsOf(session, action, table, row)]));
    const key = JSON.stringify(exactly);
    const address = recordAddress(table, row);
    if (kinds.has(key) || address === undefined) continue;
    kinds.set(key, { as, on: `${table.name}/${address}`, exactly });
  }
  return [whole, ...kinds.values()];
}

function newFields(session: Session, action: ActionName, table: Table): string[] {
  return table.fields.map(({ name }) => name).filter((name) => session.reach(action, table.name, name) !== "none");
}

function yes(actions: readonly ActionName[]): Readonly<Record<string, "yes">> | undefined {
  return actions.length === 0 ? undefined : Object.fromEntries(actions.map((action) => [action, "yes"]));
}

function fieldsOf(session: Session, action: ActionName, table: Table, row: Row): string[] {
  return table.fields.map(({ name }) => name).filter((name) => session.may(action, table.name, row, name));
}
