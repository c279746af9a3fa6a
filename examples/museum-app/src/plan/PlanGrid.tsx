import "react-data-grid/lib/styles.css";
import type { Row } from "portier";
import { columnLetters } from "portier/ranges";
import { type ClipboardEvent, type ReactNode, type Ref, useMemo, useRef } from "react";
import {
  type CellKeyboardEvent,
  type CellKeyDownArgs,
  type CellMouseArgs,
  type CellMouseEvent,
  type Column,
  DataGrid,
  type DataGridHandle,
  renderTextEditor,
} from "react-data-grid";
import type { ShapeField } from "../api.js";
import { areaOf, type Block, blockText, isIn, type Place, readBlock } from "./block.js";
import { type CellState, marks } from "./cell-state.js";

/** The cells that are chosen: from the one where the choice began to the one where it ends. */
export interface Selection {
  readonly anchor: Place;
  readonly head: Place;
}

interface GridProps {
  readonly ref: Ref<DataGridHandle>;
  readonly rows: readonly Row[];
  readonly columns: readonly ShapeField[];
  readonly stateOf: (record: Row, field: string) => CellState;
  readonly selection: Selection | undefined;
  readonly onSelect: (selection: Selection) => void;
  /** A block of texts is to be put at a place. */
  readonly onBlock: (block: Block, at: Place) => void;
  /** Somebody tries to edit a cell that is not theirs to edit. */
  readonly onLocked: (record: Row, field: ShapeField) => void;
}

const steps: Readonly<Record<string, readonly [down: number, right: number]>> = {
  ArrowUp: [-1, 0],
  ArrowDown: [1, 0],
  ArrowLeft: [0, -1],
  ArrowRight: [0, 1],
};

/** The plan as a grid of cells: the rows' numbers, then the columns from A on. */
export function PlanGrid(props: GridProps): ReactNode {
  const { ref, rows, columns, stateOf, selection, onSelect, onBlock, onLocked } = props;
  const area = useMemo(() => selection && areaOf(selection.anchor, selection.head), [selection]);
  const drawing = useRef<Place>(undefined);
  const gridColumns = useMemo<readonly Column<Row>[]>(() => {
    const indexOf = new Map(rows.map((record, index) => [record, index]));
    const lettered = columns.map((field, column): Column<Row> => {
      const isNumber = field.type === "decimal";
      return {
        key: field.name,
        name: `${columnLetters(column + 1)} ${field.label}`,
        ...(column === 0 ? { minWidth: 250 } : isNumber ? { width: 96 } : { minWidth: 120 }),
        resizable: true,
        editable: (record) => ["open", "asks"].includes(stateOf(record, field.name).kind),
        renderEditCell: renderTextEditor,
        cellClass: (record) => {
          const place = { row: indexOf.get(record) ?? -1, column };
          const chosen = area !== undefined && isIn(area, place) ? " chosen" : "";
          return `cell ${stateOf(record, field.name).kind}${isNumber ? " number" : ""}${chosen}`;
        },
        renderCell: ({ row }) => (
          <CellText value={row[field.name]} isNumber={isNumber} state={stateOf(row, field.name)} />
        ),
      };
    });
    return [{ key: "row", name: "Row", width: 56, frozen: true, cellClass: "cell rownumber" }, ...lettered];
  }, [rows, columns, stateOf, area]);

  const placeOf = (target: EventTarget | null): Place | undefined => {
    const cell = (target as HTMLElement | null)?.closest?.("[role=gridcell]");
    const line = cell?.closest("[role=row]");
    const [column, row] = [Number(cell?.getAttribute("aria-colindex")), Number(line?.getAttribute("aria-rowindex"))];
    // The header is the first row, the rows' numbers are the first column.
    return cell === null || column < 2 || row < 2 ? undefined : { row: row - 2, column: column - 2 };
  };
  const onMouseDown = ({ column, rowIdx }: CellMouseArgs<Row>, event: CellMouseEvent) => {
    const place = { row: rowIdx, column: Math.max(0, column.idx - 1) };
    if (event.shiftKey && selection !== undefined) {
      event.preventGridDefault();
      onSelect({ anchor: selection.anchor, head: place });
    } else drawing.current = place;
  };
  const onKeyDown = (args: CellKeyDownArgs<Row>, event: CellKeyboardEvent) => {
    if (args.mode === "EDIT" || args.row === undefined || args.column === undefined) return;
    const column = args.column.idx - 1;
    const field = columns[column];
    const step = steps[event.key];
    if (event.shiftKey && step !== undefined && selection !== undefined) {
      event.preventGridDefault();
      event.preventDefault();
      const { anchor, head } = selection;
      const row = Math.min(rows.length - 1, Math.max(0, head.row + step[0]));
      onSelect({ anchor, head: { row, column: Math.min(columns.length - 1, Math.max(0, head.column + step[1])) } });
      return;
    }
    if (event.key === "Delete" && area !== undefined) {
      event.preventGridDefault();
      const line = Array.from({ length: area.right - area.left + 1 }, () => null);
      const block = Array.from({ length: area.bottom - area.top + 1 }, () => line);
      onBlock(block, { row: area.top, column: area.left });
      return;
    }
    if (field === undefined) return;
    const isTyping = event.key.length === 1 && !event.ctrlKey && !event.metaKey && !event.altKey;
    if ((isTyping || ["Enter", "F2", "Backspace"].includes(event.key)) && !isOpen(stateOf(args.row, field.name))) {
      event.preventGridDefault();
      onLocked(args.row, field);
    }
  };
  const inEditor = (event: ClipboardEvent) => (event.target as HTMLElement).matches("input, textarea");
  const copy = (event: ClipboardEvent) => {
    if (inEditor(event) || area === undefined) return;
    event.preventDefault();
    const { top, bottom, left, right } = area;
    const block = rows
      .slice(top, bottom + 1)
      .map((record) => columns.slice(left, right + 1).map(({ name }) => textOf(record[name])));
    event.clipboardData.setData("text/plain", blockText(block));
  };
  const paste = (event: ClipboardEvent) => {
    if (inEditor(event) || area === undefined) return;
    event.preventDefault();
    onBlock(readBlock(event.clipboardData.getData("text/plain")), { row: area.top, column: area.left });
  };

  return (
    <div
      className="plan-grid"
      onCopy={copy}
      onPaste={paste}
      onPointerMove={(event) => {
        const place = placeOf(event.target);
        if (drawing.current === undefined || place === undefined || event.buttons !== 1) return;
        onSelect({ anchor: drawing.current, head: place });
      }}
    >
      <DataGrid
        ref={ref}
        aria-label="The plan"
        aria-describedby="plan-cell"
        className="fill"
        columns={gridColumns}
        rows={rows}
        rowKeyGetter={(record) => String(record["id"])}
        rowHeight={30}
        onCellMouseDown={onMouseDown}
        onCellDoubleClick={({ row, column }) => {
          const field = columns[column.idx - 1];
          if (field !== undefined && !isOpen(stateOf(row, field.name))) onLocked(row, field);
        }}
        onCellKeyDown={onKeyDown}
        // Pasting is done above, for locked cells as well; without this the grid would open an editor for it.
        onCellPaste={({ row }) => row}
        onActivePositionChange={({ rowIdx, column }) => {
          if (rowIdx < 0 || column === undefined) return;
          const place = { row: rowIdx, column: Math.max(0, column.idx - 1) };
          drawing.current = place;
          onSelect({ anchor: place, head: place });
        }}
        onRowsChange={(changed, { indexes, column }) => {
          const record = changed[indexes[0] ?? -1];
          // The record that was edited, wherever it stands by now.
          const row = rows.findIndex((one) => one["id"] === record?.["id"]);
          if (record === undefined || row < 0 || record === rows[row]) return;
          onBlock([[textOf(record[column.key])]], { row, column: column.idx - 1 });
        }}
        renderers={{ noRowsFallback: <p className="empty">No rows.</p> }}
      />
    </div>
  );
}

function isOpen({ kind }: CellState): boolean {
  return kind === "open" || kind === "asks";
}

function textOf(value: unknown): string {
  return value === null || value === undefined ? "" : String(value);
}

/** An amount with two decimals at least, wherever it came from. */
function amountOf(text: string): string {
  const [, whole, decimals = ""] = /^(-?\d+)(?:\.(\d*))?$/.exec(text) ?? [];
  return whole === undefined ? text : `${whole}.${decimals.padEnd(2, "0")}`;
}

interface CellTextProps {
  readonly value: unknown;
  readonly isNumber: boolean;
  readonly state: CellState;
}

/** A value with the mark of how it stands; the mark is named for those who do not see it. */
function CellText({ value, isNumber, state }: CellTextProps): ReactNode {
  const { kind, note } = state;
  const text = textOf(value);
  const isMarked = kind === "locked" || kind === "asks" || kind === "hidden";
  return (
    <>
      {kind === "hidden" ? <i>hidden</i> : isNumber ? amountOf(text) : text}
      {isMarked && <span className={`mark ${kind}`} role="img" aria-label={marks[kind]} title={note} />}
    </>
  );
}
