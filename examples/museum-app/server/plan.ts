import { randomUUID } from "node:crypto";
import { type Context, Hono } from "hono";
import { type ChangeResult, PortierError } from "portier";
import { ConflictError } from "portier/database";
import { type Administrator, administration, gridRows, type ProtectionChange, type RowOutcome } from "portier/people";
import { keptRanges, parseRange } from "portier/ranges";
import { lockedFor, type NamedCells, writeSheetProtection } from "portier/workbook";
import { type MuseumEnv, noSuchThing, screensOf } from "./museum.js";
import { BadWorkbook, Busy, readWorkbook } from "./read-workbook.js";
import { writeWorkbook } from "./workbook.js";

const table = "plan";

/**
 * What the plan has beyond its records: what is protected in it and changes of that, rows that are inserted and deleted with
 * the protections following, and workbooks. The rows themselves come and go by the routes that every table has.
 */
export function planRoutes(): Hono<MuseumEnv> {
  const app = new Hono<MuseumEnv>();

  app.use(async (context, next) => {
    if (!(await screensOf(context)).includes(table)) return noSuchThing(context);
    await next();
    return undefined;
  });

  app.get("/ranges", async (context) => {
    const { portier, store, database } = context.get("museum");
    const { kept, mayProtect } = await database(context).ask((session) => ({
      kept: keptRanges(session, table).filter(({ action }) => action === "edit"),
      mayProtect: session.reach("protect", table) !== "none",
    }));
    const listed = new Map((await personOf(context).protections(table)).map((one) => [one.id, one]));
    // What is protected, for whom, and why, is for everybody who reads the plan; the rules themselves are not.
    const ranges = kept.map(({ rule: _, ...range }) => {
      const own = listed.get(range.protection ?? "");
      return { ...range, by: own?.by ?? null, at: own?.at ?? null, mayChange: own?.isYours === true };
    });
    const { timeZone, tables, roles } = portier.schema;
    const columns = tables.get(table)?.grid?.columns.map(({ name }) => name) ?? [];
    const staff = mayProtect ? await store.read((source) => [...(source.all?.("staff") ?? [])]) : [];
    const who = mayProtect
      ? [
          ...[...roles.values()]
            .filter(({ scope }) => scope === undefined)
            .map(({ name }) => ({ value: name, label: name })),
          ...staff.map(({ id, name }) => ({ value: `person ${id}`, label: String(name) })),
        ]
      : [];
    return context.json({ ranges, columns, who, mayProtect, timeZone });
  });

  // Who would gain and lose what, before it is done.
  app.post("/ranges/preview", async (context) => {
    const { change } = (await context.req.json()) as { change: ProtectionChange };
    const { outcome, differences } = await personOf(context).previewProtection(readChange(change));
    return context.json({ outcome, differences });
  });

  app.post("/ranges", async (context) => {
    const { change, confirmed = [] } = (await context.req.json()) as { change: ProtectionChange; confirmed?: string[] };
    const outcome = await personOf(context).makeProtection(readChange(change), { confirmed });
    return context.json(outcome, outcome.accepted ? 200 : 422);
  });

  app.post("/rows", async (context) => {
    const { at, confirmed = [] } = (await context.req.json()) as { at: number; confirmed?: readonly string[] };
    if (!Number.isInteger(at) || at < 1) throw new SyntaxError('"at" must be the number of a row');
    const outcome = await rowsOf(context).insert(at, { id: `b-${randomUUID().slice(0, 8)}`, item: "" }, { confirmed });
    return context.json(toldOf(outcome), outcome.accepted ? 201 : 422);
  });

  app.delete("/rows/:key", async (context) => {
    const { confirmed = [], acceptLost = false } = (await context.req.json()) as {
      confirmed?: readonly string[];
      acceptLost?: boolean;
    };
    const outcome = await rowsOf(context).delete(context.req.param("key"), { confirmed, acceptLost });
    const isLost = !outcome.accepted && outcome.reason === "lost-cells";
    return context.json(toldOf(outcome), outcome.accepted ? 200 : isLost ? 409 : 422);
  });

  app.get("/sheet.xlsx", async (context) => {
    const { portier, database } = context.get("museum");
    const { records } = await database(context).list(table, { action: "export", sort: ["row"] });
    const columns = portier.schema.tables.get(table)?.grid?.columns ?? [];
    const { locked, kept } = await database(context).ask((session) => ({
      locked: lockedFor(session, table, records),
      kept: keptRanges(session, table),
    }));
    const bytes = await writeWorkbook({
      name: "Plan",
      columns: columns.map(({ name, type }) => ({ name, isNumber: type.name === "decimal" })),
      rows: records.map((record) => ({ position: Number(record["row"]), record })),
    });
    const last = Math.max(0, ...records.map((record) => Number(record["row"])));
    const named = kept.flatMap(({ effect, action, name, range }) =>
      effect === "permit" && action === "edit" && name !== undefined ? [{ name, ranges: [range] }] : [],
    );
    const ranges = named.filter((one) => isOpen(one, locked.unlocked, last));
    const sheet = writeSheetProtection(bytes, { ...locked, ranges });
    context.header("content-disposition", 'attachment; filename="plan.xlsx"');
    context.header("cache-control", "no-store");
    return context.body(sheet.slice().buffer, 200, {
      "content-type": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    });
  });

  // What is in a workbook, for the page to compare: nothing is changed by it.
  app.post("/sheet", async (context) => {
    return context.json(await readWorkbook(new Uint8Array(await context.req.arrayBuffer())));
  });

  app.onError((error, context) => {
    const problem = (status: 400 | 422 | 500 | 503, title: string, detail: string) =>
      context.json({ title, detail, status }, status);
    if (error instanceof PortierError) return problem(422, "These ranges are not valid", sentence(error));
    if (error instanceof BadWorkbook) return problem(422, "This file cannot be read", error.message);
    if (error instanceof ConflictError || error instanceof Busy) {
      context.header("retry-after", "10");
      return problem(503, "Busy", error.message);
    }
    if (error instanceof SyntaxError) return problem(400, "This change cannot be read", error.message);
    console.error(error);
    return problem(500, "Internal error", "Nothing was changed.");
  });
  return app;
}

function personOf(context: Context<MuseumEnv>): Administrator {
  const { authenticate, portier, store } = context.get("museum");
  const { person, ...more } = authenticate(context);
  return administration(portier, store).as({ ...more, person: person ?? "" });
}

function rowsOf(context: Context<MuseumEnv>) {
  const { authenticate, portier, connection } = context.get("museum");
  return gridRows(portier, connection, table).as(authenticate(context));
}

/** What became of a row, as the person may be told: notes, and never the rules that they are of. */
function toldOf(outcome: RowOutcome) {
  if (outcome.accepted) return { accepted: true, key: outcome.record?.["id"] ?? null };
  if (outcome.reason === "lost-cells") return { ...outcome };
  const { reason, refusals, confirm } = outcome as Extract<ChangeResult, { accepted: false }>;
  return {
    accepted: false,
    reason,
    refusals: refusals.map(({ rule: _, ...told }) => told),
    ...(confirm === undefined ? {} : { confirm }),
  };
}

/** What is in it is for the library to check; here it must be one of the three kinds. */
function readChange(change: Partial<ProtectionChange> | undefined): ProtectionChange {
  const isRange = change?.kind === "protect" && change.table === table;
  const isKnown = change?.kind === "change-protection" || change?.kind === "unprotect";
  if (!isRange && !isKnown) throw new SyntaxError('"change" is of the kind protect, change-protection or unprotect');
  return change as ProtectionChange;
}

/** Whether a named range lies in a block of cells that are not locked, as far as there are rows. */
function isOpen({ ranges }: NamedCells, unlocked: readonly string[], last: number): boolean {
  const blocks = unlocked.flatMap((text) => parseRange(text) ?? []);
  return ranges.every((text) => {
    const range = parseRange(text);
    return blocks.some(
      ({ left, right, top, bottom }) =>
        range !== undefined &&
        left <= range.left &&
        range.right <= right &&
        top <= range.top &&
        Math.min(range.bottom, last) <= bottom,
    );
  });
}

function sentence({ problems }: PortierError): string {
  return problems.map(({ message, hint }) => (hint === undefined ? message : `${message} ${hint}`)).join(" ");
}
