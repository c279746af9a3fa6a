import { useVirtualizer } from "@tanstack/react-virtual";
import type { CellView } from "portier/tooling";
import { type KeyboardEvent, type ReactNode, useEffect, useRef, useState } from "react";
import { useProject } from "../project.js";
import type { Seen, SeenRecord, TableShape, ViewQuestion } from "../worker/protocol.js";
import { ask } from "../worker-client.js";
import type { Place } from "./Why.js";

interface SeenProps {
  readonly table: TableShape;
  /** The ids of one or two eyes. */
  readonly eyes: readonly string[];
  readonly show: ViewQuestion["show"];
  readonly search: string;
  readonly asked: Place | undefined;
  readonly onAsk: (place: Place | undefined) => void;
}

/** Records are fetched so many at a time, as one comes to them. */
const pageSize = 100;
const lineHeight = 28;

/** How wide a column of a type is, in rem; the others are 9. All lines have the same columns, whatever is in them. */
const widths: Readonly<Record<string, number>> = {
  text: 12,
  integer: 6,
  decimal: 7.5,
  boolean: 6,
  date: 7.5,
  json: 12,
};

/** The records under the table's fields, of which those in view are drawn; with two eyes each record has two lines. */
export function SeenTable({ table, eyes, show, search, asked, onAsk }: SeenProps): ReactNode {
  const { overview } = useProject();
  const [seen, setSeen] = useState<Omit<Seen, "records" | "first">>();
  const [failure, setFailure] = useState<string>();
  const [pages, setPages] = useState<ReadonlyMap<number, readonly SeenRecord[]>>(new Map());
  const [active, setActive] = useState({ line: 0, column: 0 });
  const scroller = useRef<HTMLDivElement>(null);
  const wanted = useRef(new Set<number>());

  const fetchPage = (page: number) => {
    if (wanted.current.has(page)) return;
    wanted.current.add(page);
    ask("see", { table: table.name, eyes, show, search, first: page * pageSize, count: pageSize }).then(
      ({ records, total, exist, stored }) => {
        setSeen({ total, exist, stored });
        setPages((known) => new Map([...known, [page, records]]));
      },
      (error: Error) => setFailure(error.message),
    );
  };
  const lines = (seen?.total ?? 0) * eyes.length;
  const virtual = useVirtualizer({
    count: lines,
    getScrollElement: () => scroller.current,
    estimateSize: () => lineHeight,
    overscan: 8,
  });
  const items = virtual.getVirtualItems();
  // Whatever comes into view is fetched; the first page says how many there are.
  useEffect(() => {
    fetchPage(0);
    for (const { index } of items) fetchPage(Math.floor(index / eyes.length / pageSize));
  });

  // The explanation takes room from the table: what it is about stays in view.
  useEffect(() => {
    if (asked === undefined) return;
    const column = table.fields.findIndex(({ name }) => name === asked.field);
    document.getElementById(`head-${column}`)?.scrollIntoView({ block: "nearest", inline: "nearest" });
  }, [asked, table]);

  const recordAt = (line: number): SeenRecord | undefined => {
    const index = Math.floor(line / eyes.length);
    return pages.get(Math.floor(index / pageSize))?.[index % pageSize];
  };
  const askAbout = (line: number, column: number) => {
    const record = recordAt(line);
    const at = line % eyes.length;
    const eye = eyes[at];
    if (record === undefined || eye === undefined) return;
    onAsk({ eye, key: record.key, field: record.views[at] === null ? undefined : table.fields[column]?.name });
  };
  const onKeyDown = (event: KeyboardEvent) => {
    if (event.key === "Enter" || event.key === " ") {
      event.preventDefault();
      askAbout(active.line, active.column);
      return;
    }
    if (event.key === "Escape") onAsk(undefined);
    const step = steps[event.key];
    if (step === undefined || lines === 0) return;
    event.preventDefault();
    const [line, column] = step(active, { line: lines - 1, column: table.fields.length - 1 });
    const next = {
      line: Math.max(0, Math.min(line, lines - 1)),
      column: Math.max(0, Math.min(column, table.fields.length - 1)),
    };
    setActive(next);
    virtual.scrollToIndex(next.line);
    document.getElementById(`head-${next.column}`)?.scrollIntoView({ block: "nearest", inline: "nearest" });
  };
  const nameOf = (id: string) => overview.eyes.find((eye) => eye.id === id)?.name ?? id;
  const isDrawn = items.some(({ index }) => index === active.line);
  const columns = [...(eyes.length > 1 ? [9] : []), ...table.fields.map(({ type }) => widths[type] ?? 9)]
    .map((width) => `${width}rem`)
    .join(" ");

  return (
    <>
      <p className="counts">
        {failure ??
          eyes.map((id, at) => {
            const roles = overview.eyes.find((eye) => eye.id === id)?.roles ?? [];
            const count = seen?.exist[at];
            return (
              <span key={id}>
                <b>{nameOf(id)}</b> <span className="soft">({roles.length === 0 ? "no role" : roles.join(", ")})</span>:{" "}
                {count === undefined
                  ? "…"
                  : `${count.toLocaleString("en")} of ${seen?.stored.toLocaleString("en")} exist`}
              </span>
            );
          })}
      </p>
      <div
        ref={scroller}
        className={`scroll${eyes.length > 1 ? " two" : ""}`}
        role="grid"
        aria-label={table.label}
        aria-rowcount={lines + 1}
        aria-colcount={table.fields.length}
        aria-activedescendant={isDrawn ? cellId(active.line, active.column) : undefined}
        tabIndex={0}
        onKeyDown={onKeyDown}
      >
        <div className="line heads" role="row" tabIndex={-1} aria-rowindex={1} style={{ gridTemplateColumns: columns }}>
          {eyes.length > 1 && (
            <div className="head" role="columnheader" tabIndex={-1}>
              seen by
            </div>
          )}
          {table.fields.map(({ name, label, sensitive, column }, index) => (
            <div
              key={name}
              id={`head-${index}`}
              className={index === 0 ? "head first" : "head"}
              role="columnheader"
              tabIndex={-1}
              title={name}
            >
              {column !== undefined && <span className="letter">{column}</span>}
              {label}
              {sensitive && <small> sensitive</small>}
            </div>
          ))}
        </div>
        <div style={{ height: virtual.getTotalSize() }} className="lines" role="rowgroup">
          {items.map(({ index, start }) => {
            const record = recordAt(index);
            const at = index % eyes.length;
            return (
              <div
                key={index}
                className={`line${at === eyes.length - 1 ? " last" : ""}`}
                role="row"
                tabIndex={-1}
                aria-rowindex={index + 2}
                style={{ transform: `translateY(${start}px)`, height: lineHeight, gridTemplateColumns: columns }}
              >
                {eyes.length > 1 && (
                  <div className="by" role="rowheader" tabIndex={-1}>
                    {nameOf(eyes[at] ?? "")}
                  </div>
                )}
                {record !== undefined && (
                  <Cells
                    record={record}
                    at={at}
                    name={nameOf(eyes[at] ?? "")}
                    line={index}
                    table={table}
                    activeColumn={active.line === index ? active.column : undefined}
                    askedField={asked?.key === record.key && asked.eye === eyes[at] ? (asked.field ?? "") : undefined}
                    onAsk={(column) => {
                      setActive({ line: index, column });
                      askAbout(index, column);
                    }}
                  />
                )}
              </div>
            );
          })}
        </div>
      </div>
      {seen?.total === 0 && <p className="empty">No records to show.</p>}
      <p className="legend">
        <span className="sample hidden">hidden</span> not visible
        <span className="sample">✎ text</span> editable
        <span className="sample">✎? text</span> editable after a confirmation
        {eyes.length > 1 && (
          <>
            <span className="sample">≠</span> differs from the first
          </>
        )}
        <span className="keys">Arrow keys move, Enter explains, Escape closes</span>
      </p>
    </>
  );
}

type Position = { readonly line: number; readonly column: number };

const steps: Readonly<Record<string, (from: Position, last: Position) => readonly [line: number, column: number]>> = {
  ArrowUp: ({ line, column }) => [line - 1, column],
  ArrowDown: ({ line, column }) => [line + 1, column],
  ArrowLeft: ({ line, column }) => [line, column - 1],
  ArrowRight: ({ line, column }) => [line, column + 1],
  PageUp: ({ line, column }) => [line - 20, column],
  PageDown: ({ line, column }) => [line + 20, column],
  Home: ({ line }) => [line, 0],
  End: ({ line }, last) => [line, last.column],
};

function cellId(line: number, column: number): string {
  return `cell-${line}-${column}`;
}

interface CellsProps {
  readonly record: SeenRecord;
  /** Through which eye. */
  readonly at: number;
  readonly name: string;
  readonly line: number;
  readonly table: TableShape;
  readonly activeColumn: number | undefined;
  /** The field that is asked about; empty for the record as a whole. */
  readonly askedField: string | undefined;
  readonly onAsk: (column: number) => void;
}

function Cells({ record, at, name, line, table, activeColumn, askedField, onAsk }: CellsProps): ReactNode {
  const cells = record.views[at];
  const propsOf = (column: number, field: string) => ({
    id: cellId(line, column),
    role: "gridcell",
    tabIndex: -1,
    "aria-selected": askedField === field,
    onClick: () => onAsk(column),
  });
  if (cells === null || cells === undefined) {
    const column = activeColumn ?? 0;
    return (
      <div {...propsOf(column, "")} className={`cell absent${activeColumn === undefined ? "" : " active"}`}>
        {record.key}: does not exist for {name}
      </div>
    );
  }
  const first = at === 0 ? undefined : record.views[0];
  return table.fields.map(({ name: field }, column) => {
    const cell = cells[column];
    if (cell === undefined) return null;
    const classes = [
      "cell",
      cell.seen ? "" : "hidden",
      column === activeColumn ? "active" : "",
      column === 0 ? "first" : "",
    ];
    return (
      <div key={field} {...propsOf(column, field)} className={classes.join(" ")}>
        <CellMarks cell={cell} other={first?.[column]} />
        {cell.seen ? shown(cell.value) : "hidden"}
      </div>
    );
  });
}

function CellMarks({ cell, other }: { cell: CellView; other: CellView | undefined }): ReactNode {
  const differs =
    other !== undefined &&
    (other.seen !== cell.seen || other.editable !== cell.editable || other.confirm !== cell.confirm);
  return (
    <>
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
    </>
  );
}

function shown(value: unknown): string {
  if (value === null || value === undefined) return "–";
  return typeof value === "object" ? JSON.stringify(value) : String(value);
}
