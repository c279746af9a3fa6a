import type { Source } from "../conditions/source.js";
import { internals } from "../session/internals.js";
import type { Portier } from "../session/portier.js";
import type { Assigner } from "../session/roles/assigner.js";
import { AssignmentContext } from "../session/roles/assignment-context.js";
import { refusalOf } from "../session/roles/refusal.js";
import { type ChangeWarning, warning } from "./change-warnings.js";
import { type ChangeJudgement, judgedBy } from "./judge-change.js";
import { areaOf, coversAll, type ProtectionWrite, ProtectionWrites } from "./protection-writes.js";
import { type Protection, type ProtectionChange, protectionsIn } from "./protections.js";

/**
 * Judges a change of what is protected, on a source that holds the state before it. Pure: asked again on the same source it
 * answers the same, but for the id and stamp of a new protection.
 */
export function judgeProtection(
  portier: Portier,
  source: Source,
  change: ProtectionChange,
  assigner: Assigner,
  newId: () => string,
): ChangeJudgement {
  return judgedBy(new AssignmentContext(internals(portier), source, assigner, newId), change, (context) => {
    const making = new ProtectionWrites(context);
    const write = making.of(change);
    return { writes: [making.stored(write)], warnings: warningsOf(context, making, write) };
  });
}

/** A protection, as one person sees it. */
export interface ProtectionEntry extends Protection {
  /** Whether it is theirs to change: they may protect its cells, and made it, or it names them. */
  readonly isYours: boolean;
}

export function listedProtections(
  portier: Portier,
  source: Source,
  assigner: Assigner,
  table: string,
): readonly ProtectionEntry[] {
  const all = protectionsIn(portier, source, table);
  const context = new AssignmentContext(internals(portier), source, assigner, () => "");
  const { plan } = internals(context.session);
  if (plan.of(table).answers("view").reach(undefined) === "none") return [];
  const making = new ProtectionWrites(context);
  return all.map((one) => {
    const outcome = refusalOf(() => making.of({ kind: "unprotect", id: one.id }));
    return { ...one, isYours: "value" in outcome };
  });
}

function warningsOf(context: AssignmentContext, making: ProtectionWrites, write: ProtectionWrite): ChangeWarning[] {
  const { table, before, after } = write;
  const { now } = context.assigner;
  const isOver = (one: Protection) => one.until !== null && one.until <= now;
  const found: ChangeWarning[] = [];
  if (before !== undefined && !isOver(before) && lifts(write)) {
    const cells = before.ranges.join(", ");
    found.push(warning("lifts-protection", { table: table.name, cells, note: before.note }, [before.id]));
  }
  if (after === undefined || after.effect !== "reserve") return found;
  const cells = after.ranges.join(", ");
  const about = [table.name, ...after.ranges];
  const kept = before !== undefined && before.effect === "reserve" ? before : undefined;
  if (after.to.length === 0) {
    if (kept === undefined || kept.to.length > 0)
      found.push(warning("locks-everybody", { table: table.name, cells }, about));
  } else if (!making.meets(after) && (kept === undefined || making.meets(kept)) && editsAny(context, write)) {
    found.push(warning("locks-oneself", { table: table.name, cells }, about));
  }
  return found;
}

/** Whether anybody may come by something: cells that are not protected any more, others who edit them, another time. */
function lifts({ table, before, after }: ProtectionWrite): boolean {
  if (before === undefined) return false;
  if (after === undefined) return true;
  const [was, is] = [before, after].map(({ ranges, except }) => areaOf(table, ranges, except ?? []));
  const isLater = (after.from ?? "") > (before.from ?? "");
  const isShorter = after.until !== null && (before.until === null || after.until < before.until);
  const isWeaker = before.effect === "reserve" && after.effect === "confirm";
  const isWider = after.to.some((name) => !before.to.includes(name));
  const isSmaller = was === undefined || is === undefined || !coversAll(is, was);
  return isLater || isShorter || isWeaker || isWider || isSmaller;
}

function editsAny({ session }: AssignmentContext, { table, after }: ProtectionWrite): boolean {
  const { plan } = internals(session);
  const area = areaOf(table, after?.ranges ?? [], after?.except ?? []);
  return [...area.rowsOf.keys()].some((field) => plan.of(table.name).answers("edit").reach(field.name) !== "none");
}
