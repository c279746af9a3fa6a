import { Button, Group, Modal, Text, Title } from "@mantine/core";
import type { Row } from "portier";
import { type CellRange, columnLetters, parseRange } from "portier/ranges";
import { usePortier } from "portier/react";
import { type ReactNode, useMemo, useRef, useState } from "react";
import type { DataGridHandle } from "react-data-grid";
import type { ShapeField } from "../api.js";
import { useMuseum } from "../session.js";
import { type Area, addressOf, areaOf, type Block, type CellChange, changesOf, type Place } from "./block.js";
import { type CellState, cellStates, marks } from "./cell-state.js";
import { type FileRange, FileRanges, PlanFiles } from "./PlanFiles.js";
import { PlanGrid, type Selection } from "./PlanGrid.js";
import { type PlanRange, saveCells } from "./plan-api.js";
import { type Drafted, RangeForm } from "./RangeForm.js";
import { Ranges } from "./Ranges.js";
import { counted, Review, type Reviewed, reviewOf } from "./Review.js";
import { usePlan } from "./use-plan.js";
import { useRowChanges } from "./use-row-changes.js";

const corner: Place = { row: 0, column: 0 };

/** The plan as a sheet: what is locked is marked, a block that is pasted is judged cell by cell, ranges follow the rows. */
export function Plan(): ReactNode {
  const session = usePortier();
  const { refresh } = useMuseum();
  const { rows, columns, ranges, failure, reload } = usePlan();
  const grid = useRef<DataGridHandle>(null);
  const [selection, setSelection] = useState<Selection>();
  const [reviewed, setReviewed] = useState<Reviewed>();
  const [drafted, setDrafted] = useState<Drafted>();
  const [fileRanges, setFileRanges] = useState<readonly FileRange[]>([]);
  const [said, setSaid] = useState<string>();
  const stateOf = useMemo(() => cellStates(session), [session]);
  const rowChanges = useRowChanges(async (done) => {
    refresh();
    await reload();
    setSaid(done);
  }, setSaid);

  const send = async (changes: readonly CellChange[], confirmed: readonly string[], rowsBeyond = 0) => {
    setSaid(undefined);
    try {
      const answer = await saveCells(changes, confirmed);
      if (!answer.accepted) return setReviewed(reviewOf(changes, answer, rowsBeyond));
      setReviewed(rowsBeyond > 0 ? onlyBeyond(rowsBeyond) : undefined);
      setSaid(`${counted(changes.length, "cell")} changed.`);
      return await reload([...new Set(changes.map(({ key }) => key))]);
    } catch (error) {
      return setSaid(error instanceof Error ? error.message : String(error));
    }
  };
  const put = (block: Block, at: Place) => {
    const { changes, rowsBeyond, columnsBeyond } = changesOf(block, at, rows ?? [], columns);
    if (columnsBeyond > 0) return setSaid(`The block is ${counted(columnsBeyond, "column")} wider than the plan.`);
    if (changes.length > 0) return void send(changes, [], rowsBeyond);
    return rowsBeyond > 0 ? setReviewed(onlyBeyond(rowsBeyond)) : setSaid("The block changes nothing.");
  };
  const jump = (range: PlanRange) => {
    const { top, left } = parseRange(range.range) as CellRange;
    const rowIdx = (rows ?? []).findIndex((one) => Number(one["row"]) >= top);
    if (rowIdx < 0) return setSaid("This range has no rows yet.");
    // The first column of the grid is the rows' numbers.
    grid.current?.scrollToCell({ rowIdx, idx: left });
    return grid.current?.setActivePosition({ rowIdx, idx: left }, { shouldFocus: true });
  };

  const at = selection?.anchor;
  const record = at && rows?.[at.row];
  const field = at && columns[at.column];
  const mayInsert = session.reach("create", "plan") !== "none";
  const mayDelete = record !== undefined && session.may("delete", "plan", record);
  const chosen = selection && areaOf(selection.anchor, selection.head);
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
              onClick={() => record && rowChanges.insert(Number(record["row"]))}
            >
              Insert a row above
            </Button>
          )}
          {mayInsert && (
            <Button variant="default" disabled={!mayDelete} onClick={() => record && rowChanges.drop(record)}>
              Delete the row
            </Button>
          )}
          <PlanFiles
            rows={rows ?? []}
            columns={columns}
            onBlock={(block) => put(block, corner)}
            onRanges={setFileRanges}
            onFailure={setSaid}
          />
        </Group>
      </Group>
      <CellLine
        record={record}
        field={field}
        column={at?.column ?? 0}
        state={record && field && stateOf(record, field.name)}
        chosen={chosen}
      />
      <FileRanges
        found={fileRanges}
        ranges={ranges.ranges}
        mayProtect={ranges.mayProtect}
        onDraft={setDrafted}
        onClose={() => setFileRanges([])}
      />
      <div className="plan-body">
        {rows === undefined ? (
          <p className="empty">{failure ?? "…"}</p>
        ) : (
          <PlanGrid
            ref={grid}
            rows={rows}
            columns={columns}
            stateOf={stateOf}
            selection={selection}
            onSelect={setSelection}
            onBlock={put}
            onLocked={(row, { name }) => setSaid(whyLocked(stateOf(row, name)))}
          />
        )}
        <Ranges
          known={ranges}
          onJump={jump}
          onEdit={(range) => setDrafted({ range })}
          onAdd={() => setDrafted({ proposed: { cells: areaText(chosen), note: "" } })}
        />
      </div>
      <Text role="status" mt="xs" className="said">
        {said ?? (rows === undefined ? "" : counted(rows.length, "row"))}
      </Text>
      <Review
        reviewed={reviewed}
        onSend={(rest, confirmed) => send(rest, confirmed)}
        onClose={() => setReviewed(undefined)}
        onAddRows={
          mayInsert
            ? (count) => {
                setReviewed(undefined);
                void rowChanges.append(rows ?? [], count);
              }
            : undefined
        }
      />
      <Modal opened={rowChanges.question !== undefined} onClose={rowChanges.leave} title={rowChanges.question?.title}>
        {rowChanges.question?.lines.map((line) => (
          <Text key={line}>{line}</Text>
        ))}
        <Group mt="sm">
          <Button onClick={() => rowChanges.question?.onYes()}>Yes, do it</Button>
          <Button variant="default" onClick={rowChanges.leave}>
            Cancel
          </Button>
        </Group>
      </Modal>
      {drafted !== undefined && (
        <RangeForm
          drafted={drafted}
          ranges={ranges.ranges}
          who={ranges.who}
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

interface CellLineProps {
  readonly record: Row | undefined;
  readonly field: ShapeField | undefined;
  readonly column: number;
  readonly state: CellState | undefined;
  readonly chosen: Area | undefined;
}

/** The cell that the keyboard is at: where it is, and how it stands to the person. */
function CellLine({ record, field, column, state, chosen }: CellLineProps): ReactNode {
  const count = chosen && (chosen.bottom - chosen.top + 1) * (chosen.right - chosen.left + 1);
  return (
    <div id="plan-cell" className="cell-line">
      {record === undefined || field === undefined || state === undefined ? (
        <span className="soft">
          Choose a cell. Arrow keys move, Shift chooses more, Enter edits, Ctrl+C and Ctrl+V copy and paste.
        </span>
      ) : (
        <>
          <b>{addressOf(column, record["row"])}</b> {field.label}: {marks[state.kind]}
          {state.note !== undefined && ` – ${state.note}`}
          {count !== undefined && count > 1 && <span className="soft"> ({counted(count, "cell")} chosen)</span>}
        </>
      )}
    </div>
  );
}

function whyLocked({ kind, note }: CellState): string {
  return note ?? (kind === "hidden" ? "This is hidden from you." : "You may not edit this.");
}

function onlyBeyond(rowsBeyond: number): Reviewed {
  return { refused: [], rest: [], questions: [], rowsBeyond };
}

function areaText(area: Area | undefined): string {
  if (area === undefined) return "";
  const cell = (column: number, row: number) => `${columnLetters(column + 1)}${row + 1}`;
  return `${cell(area.left, area.top)}:${cell(area.right, area.bottom)}`;
}
