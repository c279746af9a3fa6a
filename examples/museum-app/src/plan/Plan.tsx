import { Alert, Button, FileButton, Group, Modal, Text, Title } from "@mantine/core";
import type { Row } from "portier";
import { type CellRange, columnLetters, type KeptRange, parseRange } from "portier/ranges";
import { usePortier } from "portier/react";
import { type ReactNode, useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { DataGridHandle } from "react-data-grid";
import { ApiError, get } from "../api.js";
import { useHouse } from "../session.js";
import { words } from "../words.js";
import {
  addressOf,
  areaOf,
  type Block,
  type CellChange,
  changesOf,
  fileText,
  type Place,
  readFileText,
} from "./block.js";
import { cellStates, marks } from "./cell-state.js";
import { PlanGrid, type Selection } from "./PlanGrid.js";
import {
  deleteRow,
  insertRow,
  type Ranges as KnownRanges,
  type RowOutcome,
  readPlan,
  readRanges,
  readSheet,
  saveCells,
} from "./plan-api.js";
import { type Drafted, RangeForm } from "./RangeForm.js";
import { Ranges } from "./Ranges.js";
import { counted, Review, type Reviewed, reviewOf } from "./Review.js";

/** Something about a row that is to be agreed to before it is done. */
interface Question {
  readonly title: string;
  readonly lines: readonly string[];
  readonly onYes: () => void;
}

/** Up to so many rows are read again one by one after a change; beyond, all of them at once. */
const fewRows = 20;

/** The plan as a sheet: what is locked is marked, a block that is pasted is judged cell by cell, ranges follow the rows. */
export function Plan(): ReactNode {
  const session = usePortier();
  const { shapes, snapshot, refresh } = useHouse();
  const grid = useRef<DataGridHandle>(null);
  const [rows, setRows] = useState<readonly Row[]>();
  const [known, setKnown] = useState<KnownRanges>({ ranges: [], roles: [], mayChange: false, timeZone: "UTC" });
  const [selection, setSelection] = useState<Selection>();
  const [reviewed, setReviewed] = useState<Reviewed>();
  const [question, setQuestion] = useState<Question>();
  const [drafted, setDrafted] = useState<Drafted>();
  const [fileRanges, setFileRanges] = useState<readonly { name: string; range: string }[]>([]);
  const [said, setSaid] = useState<string>();

  const columns = useMemo(
    () => (shapes["plan"]?.fields ?? []).filter(({ name }) => !["id", "row"].includes(name)),
    [shapes],
  );
  const stateOf = useMemo(() => cellStates(session), [session]);
  const load = useCallback(async () => setRows(await readPlan()), []);
  // Another person, other roles or other ranges: another plan.
  useEffect(() => {
    let isCurrent = snapshot !== undefined;
    Promise.all([readPlan(), readRanges()]).then(
      ([nextRows, nextRanges]) => {
        if (!isCurrent) return;
        setRows(nextRows);
        setKnown(nextRanges);
      },
      (error: Error) => isCurrent && setSaid(error.message),
    );
    return () => {
      isCurrent = false;
    };
  }, [snapshot]);

  const tell = (error: unknown) => setSaid(error instanceof ApiError ? error.message : String(error));
  const reload = async (keys: readonly string[]) => {
    if (keys.length > fewRows) return load();
    const read = await Promise.all(keys.map((key) => get<Row>(`/records/plan/${encodeURIComponent(key)}`)));
    const fresh = new Map(read.map((record) => [record["id"], record]));
    setRows((held) => held?.map((record) => fresh.get(record["id"]) ?? record));
    return undefined;
  };
  const send = async (changes: readonly CellChange[], confirmed: readonly string[], rowsBeyond = 0) => {
    setSaid(undefined);
    try {
      const answer = await saveCells(changes, confirmed);
      if (!answer.accepted) return setReviewed(reviewOf(changes, answer, rowsBeyond));
      setReviewed(rowsBeyond > 0 ? { refused: [], rest: [], questions: [], rowsBeyond } : undefined);
      setSaid(`${counted(changes.length, "cell")} changed.`);
      await reload([...new Set(changes.map(({ key }) => key))]);
    } catch (error) {
      tell(error);
    }
  };
  const put = (block: Block, at: Place) => {
    const { changes, rowsBeyond, columnsBeyond } = changesOf(block, at, rows ?? [], columns);
    if (columnsBeyond > 0) return setSaid(`The block is ${counted(columnsBeyond, "column")} wider than the plan.`);
    if (changes.length > 0) return void send(changes, [], rowsBeyond);
    if (rowsBeyond > 0) return setReviewed({ refused: [], rest: [], questions: [], rowsBeyond });
    return setSaid("Nothing in it differs from what is there.");
  };

  const at = selection?.anchor;
  const record = at && rows?.[at.row];
  const field = at && columns[at.column];
  const state = record && field && stateOf(record, field.name);
  const mayInsert = session.reach("create", "plan") !== "none";
  const mayDelete = record !== undefined && session.may("delete", "plan", record);

  const finishRow = async (outcome: RowOutcome, what: string, again: (confirmed: string[], lost: boolean) => void) => {
    if (outcome.accepted) {
      setSaid(what);
      refresh();
      return load();
    }
    if (outcome.reason === "ranges-lost") {
      const lines = outcome.lost.map(
        ({ range, of }) => `The range ${range} (${of}) would be gone, with what it protects.`,
      );
      return setQuestion({ title: "Ranges would be lost", lines, onYes: () => again([], true) });
    }
    if (outcome.confirm !== undefined) {
      const lines = outcome.confirm.map(({ note }) => note ?? "This is to be confirmed.");
      const rules = outcome.confirm.map(({ rule }) => rule);
      return setQuestion({ title: "Please confirm", lines, onYes: () => again(rules, false) });
    }
    return setSaid(outcome.refusals.map(({ message }) => message).join(" ") || "This may not be.");
  };
  const insert = async (position: number, confirmed: string[] = []) => {
    setQuestion(undefined);
    await insertRow(position, confirmed)
      .then((outcome) => finishRow(outcome, `Row ${position} inserted.`, (rules) => void insert(position, rules)))
      .catch(tell);
  };
  const drop = async (row: Row, confirmed: string[] = [], acceptLost = false) => {
    setQuestion(undefined);
    await deleteRow(String(row["id"]), confirmed, acceptLost)
      .then((outcome) =>
        finishRow(
          outcome,
          `Row ${row["row"]} deleted.`,
          (rules, lost) => void drop(row, [...confirmed, ...rules], acceptLost || lost),
        ),
      )
      .catch(tell);
  };
  const addRows = async (count: number) => {
    setReviewed(undefined);
    const last = Math.max(0, ...(rows ?? []).map((one) => Number(one["row"])));
    for (let index = 1; index <= count; index++) await insert(last + index);
    setSaid(`${counted(count, "row")} added: paste the block once more.`);
  };

  const jump = (range: KeptRange) => {
    const { top, left } = parseRange(range.range) as CellRange;
    const rowIdx = (rows ?? []).findIndex((one) => Number(one["row"]) >= top);
    if (rowIdx < 0) return setSaid("There is no row in this range yet.");
    // The first column of the grid is the rows' numbers.
    grid.current?.scrollToCell({ rowIdx, idx: left });
    grid.current?.setActivePosition({ rowIdx, idx: left }, { shouldFocus: true });
  };
  const take = async (file: File | null) => {
    if (file === null) return;
    try {
      if (/\.csv$/i.test(file.name)) return put(readFileText(await file.text()), { row: 0, column: 0 });
      const { cells, ranges } = await readSheet(file);
      const names = new Map(known.ranges.map((one) => [one.name, one.range]));
      setFileRanges(ranges.filter(({ name, range }) => names.get(name) !== range));
      put(cells, { row: 0, column: 0 });
    } catch (error) {
      tell(error);
    }
  };
  const saveCsv = () => {
    const block = (rows ?? []).map((one) => columns.map(({ name }) => (one[name] == null ? "" : String(one[name]))));
    return `data:text/csv;charset=utf-8,${encodeURIComponent(fileText(block))}`;
  };

  const chosen = selection && areaOf(selection.anchor, selection.head);
  const count = chosen && (chosen.bottom - chosen.top + 1) * (chosen.right - chosen.left + 1);
  return (
    <section aria-label="Plan" className="plan">
      <Group justify="space-between">
        <Title order={1} size="h2">
          Plan
        </Title>
        <Group gap="xs">
          {mayInsert && (
            <Button
              variant="default"
              disabled={record === undefined}
              onClick={() => record && insert(Number(record["row"]))}
            >
              Insert a row above
            </Button>
          )}
          {mayInsert && (
            <Button variant="default" disabled={!mayDelete} onClick={() => record && drop(record)}>
              Delete the row
            </Button>
          )}
          <Button component="a" variant="default" href="/api/plan/sheet.xlsx" download>
            Save as XLSX
          </Button>
          <Button component="a" variant="default" href={saveCsv()} download="plan.csv">
            Save as CSV
          </Button>
          <FileButton
            onChange={take}
            accept=".csv,.xlsx"
            inputProps={{ "aria-label": "A workbook or CSV file for the plan" }}
          >
            {(props) => (
              <Button variant="default" {...props}>
                Take in a file
              </Button>
            )}
          </FileButton>
        </Group>
      </Group>
      <div id="plan-cell" className={`cell-line ${state?.kind ?? ""}`}>
        {record === undefined || field === undefined || state === undefined ? (
          <span className="soft">
            Choose a cell. Arrow keys move, Shift chooses more, Enter edits, Ctrl+C and Ctrl+V copy and paste.
          </span>
        ) : (
          <>
            <b>{addressOf(at?.column ?? 0, record["row"])}</b> {words(field.name)}: {marks[state.kind]}
            {state.note !== undefined && ` – ${state.note}`}
            {count !== undefined && count > 1 && <span className="soft"> ({counted(count, "cell")} chosen)</span>}
          </>
        )}
      </div>
      {fileRanges.length > 0 && (
        <Alert
          title="Protected ranges in the file"
          withCloseButton
          closeButtonLabel="Close"
          onClose={() => setFileRanges([])}
          mb="sm"
        >
          {fileRanges.map((one) => (
            <Group key={`${one.name} ${one.range}`} gap="xs">
              <Text size="sm">
                {one.range} “{one.name}” is {known.ranges.some(({ name }) => name === one.name) ? "elsewhere" : "not"}{" "}
                here.
              </Text>
              {known.mayChange && (
                <Button size="compact-xs" variant="default" onClick={() => setDrafted(draftOf(one, known.ranges))}>
                  Take it over
                </Button>
              )}
            </Group>
          ))}
        </Alert>
      )}
      <div className="plan-body">
        {rows === undefined ? (
          <p className="empty">…</p>
        ) : (
          <PlanGrid
            ref={grid}
            rows={rows}
            columns={columns}
            stateOf={stateOf}
            selection={selection}
            onSelect={setSelection}
            onBlock={put}
            onLocked={(row, { name }) => {
              const { kind, note } = stateOf(row, name);
              setSaid(note ?? (kind === "hidden" ? "This is hidden from you." : "This is not yours to edit."));
            }}
          />
        )}
        <Ranges
          known={known}
          onJump={jump}
          onEdit={(range) => setDrafted({ range })}
          onAdd={() => setDrafted({ proposed: { name: "", range: areaText(chosen) } })}
        />
      </div>
      <Text role="status" mt="xs" className="said">
        {said ?? (rows === undefined ? "" : counted(rows.length, "row"))}
      </Text>
      <Review
        reviewed={reviewed}
        onSend={(rest, confirmed) => send(rest, confirmed)}
        onClose={() => setReviewed(undefined)}
        onAddRows={mayInsert ? (many) => void addRows(many) : undefined}
      />
      <Modal opened={question !== undefined} onClose={() => setQuestion(undefined)} title={question?.title}>
        {question?.lines.map((line) => (
          <Text key={line}>{line}</Text>
        ))}
        <Group mt="sm">
          <Button onClick={() => question?.onYes()}>Yes, do it</Button>
          <Button variant="default" onClick={() => setQuestion(undefined)}>
            Leave it
          </Button>
        </Group>
      </Modal>
      {drafted !== undefined && (
        <RangeForm
          drafted={drafted}
          ranges={known.ranges}
          roles={known.roles}
          onClose={() => setDrafted(undefined)}
          onDone={() => {
            setDrafted(undefined);
            refresh();
          }}
        />
      )}
    </section>
  );
}

/** A range of a file as the form is to begin with it: the one of that name with other cells, or a new one. */
function draftOf(found: { name: string; range: string }, ranges: readonly KeptRange[]): Drafted {
  const known = ranges.find(({ name }) => name === found.name);
  return known === undefined ? { proposed: found } : { range: known, cells: found.range };
}

function areaText(area: ReturnType<typeof areaOf> | undefined): string {
  if (area === undefined) return "";
  const corner = (column: number, row: number) => `${columnLetters(column + 1)}${row + 1}`;
  return `${corner(area.left, area.top)}:${corner(area.right, area.bottom)}`;
}
