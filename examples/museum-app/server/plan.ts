import { randomUUID } from "node:crypto";
import { Hono } from "hono";
import { type Acceptance, PortierError, type Row } from "portier";
import type { Connection } from "portier/database";
import { compileText, editText, parseDocument } from "portier/document";
import {
  addRange,
  editRange,
  type KeptRange,
  keptRanges,
  type LostRange,
  moveRanges,
  type NewRange,
  type RangeChange,
  type RangePlace,
  removeRange,
  type SheetChange,
} from "portier/ranges";
import { everybodysDifference, personViewers } from "portier/verify";
import { type House, type HouseEnv, noSuchThing, screensOf } from "./house.js";
import { BadWorkbook, Busy, readWorkbook } from "./read-workbook.js";
import { type KeptRules, RulesChanged } from "./rules.js";
import { writeWorkbook } from "./workbook.js";

const table = "plan";

/** What is to become of a range: other cells, keepers or note, one more, or one less. */
type RangeEdit =
  | { readonly kind: "edit"; readonly place: RangePlace; readonly change: RangeChange }
  | { readonly kind: "add"; readonly added: NewRange }
  | { readonly kind: "remove"; readonly place: RangePlace };

/** A row is deleted with ranges of which nothing would be left: that is to be agreed to first. */
class RangesLost extends Error {
  readonly lost: readonly LostRange[];

  constructor(lost: readonly LostRange[]) {
    super("ranges would be lost");
    this.lost = lost;
  }
}

/**
 * What the plan has beyond its records: the list of its ranges and changes of them, rows that are inserted and deleted with
 * the ranges following, and workbooks. The rows themselves come and go by the routes that every table has.
 */
export function planRoutes(rules: KeptRules): Hono<HouseEnv> {
  const app = new Hono<HouseEnv>();

  app.use(async (context, next) => {
    const screens = await screensOf(context);
    if (!screens.includes(table)) return noSuchThing(context);
    const changesRanges = context.req.path.includes("/ranges") && context.req.method !== "GET";
    if (changesRanges && !screens.includes("administration")) return noSuchThing(context);
    await next();
    return undefined;
  });

  app.get("/ranges", async (context) => {
    const house = context.get("house");
    const mayChange = (await screensOf(context)).includes("administration");
    const ranges = keptRanges(house.rules.portier, table).map((one) => (mayChange ? one : withoutRule(one)));
    const roles = [...house.rules.portier.schema.roles.keys()];
    const { timeZone, tables } = house.rules.portier.schema;
    const columns = tables.get(table)?.grid?.columns.map(({ name }) => name) ?? [];
    return context.json({ ranges, columns, roles: mayChange ? roles : [], mayChange, timeZone });
  });

  // Who would gain and lose what, before it is done.
  app.post("/ranges/preview", async (context) => {
    const house = context.get("house");
    const { portier } = house.rules;
    const changed = compileText(changedText(house, readEdit(await context.req.json())));
    const differences = await house.store.read((source) => {
      const people = [...(source.all?.("staff") ?? [])];
      const viewers = [portier, changed].map((one) => personViewers(one, people, { source, ...house.request }));
      return everybodysDifference(viewers[0] ?? [], viewers[1] ?? [], (name) =>
        name === table ? (source.all?.(name) ?? []) : [],
      );
    });
    return context.json({ differences });
  });

  app.post("/ranges", async (context) => {
    const house = context.get("house");
    const text = changedText(house, readEdit(await context.req.json()));
    await house.connection.transaction((inside) => rules.replace(inside, house.rules, text));
    return context.body(null, 204);
  });

  app.post("/rows", async (context) => {
    const house = context.get("house");
    const { at, confirmed = [] } = (await context.req.json()) as { at: number; confirmed?: readonly string[] };
    if (!Number.isInteger(at) || at < 1) throw new SyntaxError('"at" must be the number of a row');
    const values = { id: `b-${randomUUID().slice(0, 8)}`, row: at, item: "" };
    const before = async (inside: Connection) => {
      await shift(inside, at, 1);
      await moveWith(inside, rules, house, { kind: "insert", of: "rows", at, count: 1 }, true);
    };
    const outcome = await house.acting(context).create(table, values, { confirmed, before });
    return context.json(toldOf(outcome), outcome.accepted ? 201 : 422);
  });

  app.delete("/rows/:key", async (context) => {
    const house = context.get("house");
    const { confirmed = [], acceptLost = false } = (await context.req.json()) as {
      confirmed?: readonly string[];
      acceptLost?: boolean;
    };
    const work = async (inside: Connection, record: Row) => {
      const at = Number(record["row"]);
      await remove(inside, record);
      await shift(inside, at + 1, -1);
      await moveWith(inside, rules, house, { kind: "delete", of: "rows", at, count: 1 }, acceptLost);
    };
    try {
      const outcome = await house.acting(context).act("delete", table, context.req.param("key"), work, { confirmed });
      return context.json(toldOf(outcome), outcome.accepted ? 200 : 422);
    } catch (error) {
      if (!(error instanceof RangesLost)) throw error;
      return context.json({ accepted: false, reason: "ranges-lost", refusals: [], lost: error.lost }, 409);
    }
  });

  app.get("/sheet.xlsx", async (context) => {
    const house = context.get("house");
    const acting = house.acting(context);
    const { records } = await acting.list(table, { action: "export", sort: ["row"] });
    const columns = house.rules.portier.schema.tables.get(table)?.grid?.columns ?? [];
    const open = await acting.ask((session) =>
      records.map((record) => columns.map(({ name }) => session.may("edit", table, record, name))),
    );
    const bytes = await writeWorkbook({
      name: "Plan",
      columns: columns.map(({ name, type }) => ({ name, isNumber: type.name === "decimal" })),
      rows: records.map((record, index) => ({ position: Number(record["row"]), record, open: open[index] ?? [] })),
      named: keptRanges(house.rules.portier, table).flatMap(({ effect, name, range }) =>
        effect === "permit" && name !== undefined ? [{ name, range }] : [],
      ),
    });
    context.header("content-disposition", 'attachment; filename="plan.xlsx"');
    context.header("cache-control", "no-store");
    return context.body(bytes.slice().buffer, 200, {
      "content-type": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    });
  });

  // What is in a workbook, for the page to compare: nothing is changed by it.
  app.post("/sheet", async (context) => {
    return context.json(await readWorkbook(new Uint8Array(await context.req.arrayBuffer())));
  });

  app.onError((error, context) => {
    const problem = (status: 400 | 409 | 422 | 500 | 503, title: string, detail: string) =>
      context.json({ title, detail, status }, status);
    if (error instanceof PortierError) return problem(422, "The ranges cannot be so", sentence(error));
    if (error instanceof RulesChanged)
      return problem(409, "Somebody else has changed the ranges", "Look, and try again.");
    if (error instanceof BadWorkbook) return problem(422, "This file cannot be read", error.message);
    if (error instanceof Busy) {
      context.header("retry-after", "10");
      return problem(503, "Others are being served", error.message);
    }
    if (error instanceof SyntaxError) return problem(400, "This change cannot be read", error.message);
    console.error(error);
    return problem(500, "It did not work out", "Nothing was changed.");
  });
  return app;
}

/** What is protected, for whom, and why, is for everybody who reads the plan; the rules themselves are not. */
function withoutRule(range: KeptRange): KeptRange {
  return { ...range, rule: "" };
}

/** What became of a row, as the person may be told: notes, and never the rules that they are of. */
function toldOf(outcome: Acceptance) {
  if (outcome.accepted) return { accepted: true, key: outcome.record?.["id"] ?? null };
  const { reason, refusals, confirm } = outcome;
  return {
    accepted: false,
    reason,
    refusals: refusals.map(({ rule: _, ...told }) => told),
    ...(confirm === undefined ? {} : { confirm }),
  };
}

/** What is in it is for the library and `compile` to check; here it must be one of the three kinds. */
function readEdit(body: Partial<Record<"kind" | "place" | "change" | "added", unknown>>): RangeEdit {
  const isThere = (part: unknown) => typeof part === "object" && part !== null;
  const { kind, place, change, added } = body;
  const isRight =
    (kind === "add" && isThere(added)) ||
    (kind === "edit" && isThere(place) && isThere(change)) ||
    (kind === "remove" && isThere(place));
  if (!isRight)
    throw new SyntaxError('it is { kind: "edit", place, change }, { kind: "add", added } or { kind: "remove", place }');
  return body as RangeEdit;
}

function changedText({ rules }: House, edit: RangeEdit): string {
  const { document } = parseDocument(rules.text);
  if (edit.kind === "add") return editText(rules.text, addRange(document, table, edit.added));
  const changed =
    edit.kind === "edit" ? editRange(document, edit.place, edit.change) : removeRange(document, edit.place);
  return editText(rules.text, changed);
}

function sentence({ problems }: PortierError): string {
  return problems.map(({ message, hint }) => (hint === undefined ? message : `${message}; ${hint}`)).join(". ");
}

/** Ranges follow the rows: the document is changed in the transaction that moves them. */
async function moveWith(
  inside: Connection,
  rules: KeptRules,
  house: House,
  change: SheetChange,
  acceptLost: boolean,
): Promise<void> {
  const { text } = house.rules;
  const { document, lost } = moveRanges(parseDocument(text).document, table, change);
  if (lost.length > 0 && !acceptLost) throw new RangesLost(lost);
  const moved = editText(text, document);
  if (moved !== text) await rules.replace(inside, house.rules, moved);
}

async function shift(inside: Connection, from: number, by: number): Promise<void> {
  const { quoteName, placeholder } = inside.dialect;
  const row = quoteName("row");
  const text = `update ${quoteName(table)} set ${row} = ${row} + ${placeholder(1)} where ${row} >= ${placeholder(2)}`;
  await inside.query(text, [by, from]);
}

async function remove(inside: Connection, record: Row): Promise<void> {
  const { quoteName, placeholder } = inside.dialect;
  await inside.query(`delete from ${quoteName(table)} where ${quoteName("id")} = ${placeholder(1)}`, [record["id"]]);
}
