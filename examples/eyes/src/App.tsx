import { useMemo, useState } from "react";
import { useAddress } from "./address";
import { Grid, type Place } from "./Grid";
import { nameOf, seenRecords, tables, viewerById, viewers } from "./museum";
import { Ranges } from "./Ranges";
import { Why } from "./Why";

const pageSize = 40;

export function App() {
  const [address, go] = useAddress();
  const [page, setPage] = useState(0);
  const [asked, setAsked] = useState<Place>();
  const table = tables.find(({ name }) => name === address.table) ?? tables[0];
  const first = viewerById(address.as) ?? viewers[0];
  const second = viewerById(address.beside);
  const eyes = useMemo(() => [first, second].filter((viewer) => viewer !== undefined), [first, second]);
  const records = useMemo(() => (table === undefined ? [] : seenRecords(table.name, eyes)), [table, eyes]);
  if (table === undefined) return null;

  const pages = Math.max(1, Math.ceil(records.length / pageSize));
  const current = Math.min(page, pages - 1);
  const shown = records.slice(current * pageSize, (current + 1) * pageSize);
  const change = (next: Parameters<typeof go>[0]) => {
    setPage(0);
    setAsked(undefined);
    go(next);
  };
  // Closing the explanation gives the keyboard back to the cell that it was about.
  const close = () => {
    setAsked(undefined);
    document.querySelector<HTMLElement>("[role=grid] [tabindex='0']")?.focus();
  };

  return (
    <div className="app">
      <header>
        <h1>Brackwater Museum</h1>
        <Picker label="See as" value={first?.id ?? ""} onChange={(as) => change({ as })} />
        <Picker label="beside" value={second?.id ?? ""} none="nobody" onChange={(beside) => change({ beside })} />
        <nav aria-label="Tables">
          {tables.map(({ name }) => (
            <button
              key={name}
              type="button"
              aria-current={name === table.name ? "page" : undefined}
              onClick={() => change({ table: name })}
            >
              {name}
            </button>
          ))}
        </nav>
      </header>

      <main className={asked === undefined ? "" : "with-why"}>
        <section aria-label={`${table.name}, as they see it`}>
          <div className="bar">
            <p role="status">
              {eyes.map((viewer, index) => {
                const count = records.filter(({ views }) => views[index] !== undefined).length;
                return (
                  <span key={viewer.id}>
                    <b>{nameOf(viewer)}</b> ({viewer.roles.length === 0 ? "no role" : viewer.roles.join(", ")}):{" "}
                    {count === 0 ? "no record exists" : `${count} ${count === 1 ? "record exists" : "records exist"}`}
                  </span>
                );
              })}
            </p>
            <Pages current={current} pages={pages} onChange={setPage} />
          </div>
          {shown.length === 0 ? (
            <p className="empty">For {eyes.map(nameOf).join(" and ")}, this table is empty.</p>
          ) : (
            <Grid table={table} eyes={eyes} records={shown} asked={asked} onAsk={setAsked} />
          )}
          <Ranges table={table.name} />
          <Legend two={eyes.length > 1} />
        </section>
        {asked !== undefined && <Why place={asked} table={table.name} onClose={close} />}
      </main>
    </div>
  );
}

function Picker(props: { label: string; value: string; none?: string; onChange: (id: string) => void }) {
  const { label, value, none, onChange } = props;
  return (
    <label>
      {label}
      <select value={value} onChange={(event) => onChange(event.target.value)}>
        {none !== undefined && <option value="">{none}</option>}
        {viewers.map((viewer) => (
          <option key={viewer.id} value={viewer.id}>
            {viewer.kind === "visitor" ? nameOf(viewer) : `${nameOf(viewer)}, ${viewer.id}`}
          </option>
        ))}
      </select>
    </label>
  );
}

function Pages({ current, pages, onChange }: { current: number; pages: number; onChange: (page: number) => void }) {
  if (pages === 1) return null;
  return (
    <div className="pages">
      <button type="button" disabled={current === 0} onClick={() => onChange(current - 1)}>
        Previous
      </button>
      <span>
        page {current + 1} of {pages}
      </span>
      <button type="button" disabled={current === pages - 1} onClick={() => onChange(current + 1)}>
        Next
      </button>
    </div>
  );
}

function Legend({ two }: { two: boolean }) {
  return (
    <p className="legend">
      <span className="sample hidden">hidden</span> may not be seen
      <span className="sample editable">✎ text</span> may be edited
      <span className="sample editable confirm">✎? text</span> after a confirmation
      {two && (
        <>
          <span className="sample">≠</span> differs from the first person
        </>
      )}
      <span className="keys">Arrow keys move, Enter asks why, Escape closes</span>
    </p>
  );
}
