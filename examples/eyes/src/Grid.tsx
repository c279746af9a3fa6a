import type { Portier } from "portier";
import { columnLetters } from "portier/ranges";
import type { CellView, Viewer } from "portier/verify";
import { type KeyboardEvent, useRef, useState } from "react";
import { nameOf, type SeenRecord } from "./museum";

type Table = Portier["schema"]["tables"] extends ReadonlyMap<string, infer T> ? T : never;

/** What is asked about: one viewer's view of one field of one record, or of the whole record where it does not exist for them. */
export interface Place {
  readonly viewer: Viewer;
  readonly record: SeenRecord;
  readonly field: string | undefined;
}

interface GridProps {
  readonly table: Table;
  readonly eyes: readonly Viewer[];
  readonly records: readonly SeenRecord[];
  readonly asked: Place | undefined;
  readonly onAsk: (place: Place) => void;
}

/** One line of the grid: a record as one viewer sees it. */
interface Line {
  readonly record: SeenRecord;
  readonly viewer: Viewer;
  readonly index: number;
  readonly cells: readonly CellView[] | undefined;
}

/** The records under the table's fields; with two viewers each record has two lines. The arrow keys go from cell to cell. */
export function Grid({ table, eyes, records, asked, onAsk }: GridProps) {
  const body = useRef<HTMLTableSectionElement>(null);
  const [focus, setFocus] = useState({ line: 0, column: 0 });
  const lines = records.flatMap((record) =>
    eyes.map((viewer, index): Line => ({ record, viewer, index, cells: record.views[index] })),
  );
  const last = { line: lines.length - 1, column: table.fields.length - 1 };
  const line = Math.min(focus.line, last.line);

  const move = (to: { line: number; column: number }) => {
    const target = {
      line: Math.max(0, Math.min(to.line, last.line)),
      column: Math.max(0, Math.min(to.column, last.column)),
    };
    setFocus(target);
    const row = body.current?.rows[target.line];
    // A line of somebody for whom the record does not exist has one cell over all columns.
    const cells = row?.querySelectorAll<HTMLElement>("[role=gridcell]");
    cells?.[Math.min(target.column, cells.length - 1)]?.focus();
  };

  const onKeyDown = (event: KeyboardEvent) => {
    const step = steps[event.key];
    if (step === undefined) return;
    event.preventDefault();
    move(step({ line, column: focus.column }, last));
  };

  return (
    <div className="scroll">
      <table
        role="grid"
        className={eyes.length > 1 ? "two" : ""}
        aria-label={table.name}
        aria-rowcount={lines.length}
        onKeyDown={onKeyDown}
      >
        <thead>
          <tr>
            {eyes.length > 1 && <th scope="col">seen by</th>}
            {table.fields
              .map((field) => ({ ...field, letter: letterOf(table, field.name) }))
              .map(({ name, sensitive, letter }) => (
                <th key={name} scope="col">
                  {letter !== undefined && <b className="letter">{letter}</b>}
                  {name}
                  {sensitive && <small title="never covered by “all”"> sensitive</small>}
                </th>
              ))}
          </tr>
        </thead>
        <tbody ref={body}>
          {lines.map((one, at) => (
            <tr key={`${one.record.key} ${one.index}`} className={one.index === eyes.length - 1 ? "last" : ""}>
              {eyes.length > 1 && <th scope="row">{nameOf(one.viewer)}</th>}
              <Cells
                line={one}
                columns={table.fields.length}
                focused={at === line ? focus.column : undefined}
                asked={asked}
                onAsk={(place, column) => {
                  setFocus({ line: at, column });
                  onAsk(place);
                }}
              />
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** The letter of a column, in a table that is a grid. */
function letterOf({ grid }: Table, field: string): string | undefined {
  const index = grid?.columns.findIndex(({ name }) => name === field) ?? -1;
  return index < 0 ? undefined : columnLetters(index + 1);
}

type Position = { readonly line: number; readonly column: number };

const steps: Readonly<Record<string, (from: Position, last: Position) => Position>> = {
  ArrowUp: ({ line, column }) => ({ line: line - 1, column }),
  ArrowDown: ({ line, column }) => ({ line: line + 1, column }),
  ArrowLeft: ({ line, column }) => ({ line, column: column - 1 }),
  ArrowRight: ({ line, column }) => ({ line, column: column + 1 }),
  PageUp: ({ line, column }) => ({ line: line - 10, column }),
  PageDown: ({ line, column }) => ({ line: line + 10, column }),
  Home: ({ line }) => ({ line, column: 0 }),
  End: ({ line }, last) => ({ line, column: last.column }),
};

interface CellsProps {
  readonly line: Line;
  readonly columns: number;
  /** The column that the keyboard is in, when it is in this line. */
  readonly focused: number | undefined;
  readonly asked: Place | undefined;
  readonly onAsk: (place: Place, column: number) => void;
}

function Cells({ line: { record, viewer, index, cells }, columns, focused, asked, onAsk }: CellsProps) {
  const cellProps = (field: string | undefined, column: number) => {
    const ask = () => onAsk({ viewer, record, field }, column);
    return {
      role: "gridcell",
      tabIndex: focused === column || (field === undefined && focused !== undefined) ? 0 : -1,
      "aria-selected": asked?.record.key === record.key && asked.viewer === viewer && asked.field === field,
      onClick: ask,
      onKeyDown: (event: KeyboardEvent) => {
        if (event.key !== "Enter" && event.key !== " ") return;
        event.preventDefault();
        ask();
      },
    };
  };
  if (cells === undefined) {
    return (
      <td {...cellProps(undefined, 0)} colSpan={columns} className="absent">
        for {nameOf(viewer)} there is no such record
      </td>
    );
  }
  const first = index === 0 ? undefined : record.views[0];
  return cells.map((cell, column) => {
    const other = first?.[column];
    const differs =
      other !== undefined &&
      (other.seen !== cell.seen || other.editable !== cell.editable || other.confirm !== cell.confirm);
    return (
      <td
        key={cell.field}
        {...cellProps(cell.field, column)}
        className={[cell.seen ? "seen" : "hidden", cell.editable ? "editable" : "", cell.confirm ? "confirm" : ""].join(
          " ",
        )}
      >
        {differs && (
          <span role="img" aria-label="differs: ">
            ≠{" "}
          </span>
        )}
        {cell.editable && (
          <span role="img" aria-label={cell.confirm ? "editable after a confirmation: " : "editable: "}>
            {cell.confirm ? "✎?" : "✎"}{" "}
          </span>
        )}
        {cell.seen ? shown(cell.value) : "hidden"}
      </td>
    );
  });
}

function shown(value: unknown): string {
  if (value === null || value === undefined) return "–";
  return typeof value === "object" ? JSON.stringify(value) : String(value);
}
