import type { Row } from "portier";
import { useCallback, useEffect, useMemo, useState } from "react";
import { get, type ShapeField } from "../api.js";
import { useMuseum } from "../session.js";
import { type Ranges, readPlan, readRanges } from "./plan-api.js";

/** Up to so many rows are read again one by one after a change; beyond, all of them at once. */
const fewRows = 20;

export interface PlanData {
  /** Undefined until they are there. */
  readonly rows: readonly Row[] | undefined;
  /** From A on. */
  readonly columns: readonly ShapeField[];
  readonly ranges: Ranges;
  readonly failure: string | undefined;
  /** Reads rows again that have changed; without keys all of them. */
  readonly reload: (keys?: readonly string[]) => Promise<void>;
}

const noRanges: Ranges = { ranges: [], columns: [], who: [], mayProtect: false, timeZone: "UTC" };

/** The rows and ranges of the plan, read again when the person, their roles or the ranges are others. */
export function usePlan(): PlanData {
  const { shapes, snapshot } = useMuseum();
  const [rows, setRows] = useState<readonly Row[]>();
  const [ranges, setRanges] = useState(noRanges);
  const [failure, setFailure] = useState<string>();
  useEffect(() => {
    let isCurrent = snapshot !== undefined;
    Promise.all([readPlan(), readRanges()]).then(
      ([nextRows, nextRanges]) => {
        if (!isCurrent) return;
        setRows((held) => keepingSame(held, nextRows));
        setRanges(nextRanges);
        setFailure(undefined);
      },
      (error: Error) => isCurrent && setFailure(error.message),
    );
    return () => {
      isCurrent = false;
    };
  }, [snapshot]);
  const reload = useCallback(async (keys?: readonly string[]) => {
    if (keys === undefined || keys.length > fewRows) {
      const next = await readPlan();
      return setRows((held) => keepingSame(held, next));
    }
    const read = await Promise.all(keys.map((key) => get<Row>(`/records/plan/${encodeURIComponent(key)}`)));
    const fresh = new Map(read.map((record) => [record["id"], record]));
    return setRows((held) => held?.map((record) => fresh.get(record["id"]) ?? record));
  }, []);
  const columns = useMemo(() => {
    const fields = shapes["plan"]?.fields ?? [];
    return ranges.columns.flatMap((name) => fields.filter((field) => field.name === name));
  }, [shapes, ranges]);
  return { rows, columns, ranges, failure, reload };
}

/** The rows that were read, those that are as they were as the same objects: whoever is editing one is not disturbed. */
function keepingSame(held: readonly Row[] | undefined, read: readonly Row[]): readonly Row[] {
  const known = new Map(held?.map((row) => [row["id"], row]));
  return read.map((row) => {
    const before = known.get(row["id"]);
    const names = Object.keys(row);
    const isSame =
      before !== undefined &&
      names.length === Object.keys(before).length &&
      names.every((name) => Object.is(row[name], before[name]));
    return isSame ? before : row;
  });
}
