import { SegmentedControl, Text, TextInput } from "@mantine/core";
import { memo, type ReactNode, useCallback, useMemo, useState } from "react";
import { printAddress, useAddress } from "./address.js";
import { groupBy } from "./group-by.js";
import { Mark, markWidth } from "./Mark.js";
import { columnsOf, matches, type Order, sorted, type TableColumn } from "./matrix-order.js";
import { useProject } from "./project.js";
import { useAnswer } from "./use-answer.js";
import type { MatrixAnswer, MatrixLine } from "./worker/protocol.js";
import { ask } from "./worker-client.js";

type Of = "people" | "roles" | "groups";

const mostNames = 2;
const none: readonly MatrixAnswer[] = [];
const noLines: readonly MatrixLine[] = [];

/** Who may do what with which table, a mark for each action. Those who are equal share a line. */
export function Matrix(): ReactNode {
  const { overview, turn } = useProject();
  const [of, setOf] = useState<Of>("people");
  const [who, setWho] = useState("");
  const [what, setWhat] = useState("");
  const [order, setOrder] = useState<Order>({ by: undefined, isUp: true });
  const [told, setTold] = useState<string>();
  const { answer: lines = noLines, failure, isAsking } = useAnswer(() => ask("matrix", of), `${of} ${turn}`);
  const all = useMemo(() => columnsOf(overview.tables, lines), [overview.tables, lines]);
  const columns = useMemo(() => all.filter(({ name, label }) => matches(what, [name, label])), [all, what]);
  const shown = useMemo(() => {
    const namesOf = (line: MatrixLine) => [...line.who.map(({ name }) => name), ...line.roles];
    return sorted(
      lines.filter((line) => matches(who, namesOf(line))),
      order,
    );
  }, [lines, who, order]);
  const sortBy = useCallback(
    (by: string | undefined) => setOrder((last) => ({ by, isUp: last.by === by ? !last.isUp : by === undefined })),
    [],
  );
  const count = `${shown.length} ${shown.length === 1 ? "line" : "lines"}, equal ones together`;
  return (
    <section aria-label="Matrix" className="matrix">
      <div className="bar">
        <SegmentedControl
          size="xs"
          aria-label="Rows"
          data={["people", "roles", ...(overview.groups.length > 0 ? ["groups"] : [])]}
          value={of}
          onChange={(value) => setOf(value as Of)}
        />
        <Filter label={`Filter ${of}`} value={who} onChange={setWho} />
        <Filter label="Filter tables" value={what} onChange={setWhat} />
        <Text size="sm" role="status" className="soft">
          {failure ?? (isAsking ? "…" : count)}
        </Text>
      </div>
      <div className="scroll wide">
        <Marks lines={shown} columns={columns} of={of} sought={who} order={order} onSort={sortBy} onTell={setTold} />
      </div>
      <p className="legend">
        {told === undefined ? (
          <>
            <span>
              <Mark reach="all" /> every record
            </span>
            <span>
              <Mark reach="some" /> some records, by their values
            </span>
            <span>
              <Mark reach="own" /> only records they own
            </span>
            <span>
              <Mark reach="none" /> none
            </span>
            <span>Point at a cell for counts of the records loaded</span>
          </>
        ) : (
          told
        )}
      </p>
    </section>
  );
}

interface MarksProps {
  readonly lines: readonly MatrixLine[];
  readonly columns: readonly TableColumn[];
  readonly of: Of;
  readonly sought: string;
  readonly order: Order;
  readonly onSort: (by: string | undefined) => void;
  readonly onTell: (told: string | undefined) => void;
}

/** The grid itself, which what is pointed at does not draw again. */
const Marks = memo(({ lines, columns, of, sought, order, onSort, onTell }: MarksProps): ReactNode => {
  const sortOf = (by: string | undefined) => (order.by !== by ? undefined : order.isUp ? "ascending" : "descending");
  return (
    <table onMouseLeave={() => onTell(undefined)}>
      <thead>
        <tr>
          <th scope="col" aria-sort={sortOf(undefined)}>
            <SortButton label={of} sort={sortOf(undefined)} onClick={() => onSort(undefined)} />
          </th>
          {columns.map(({ name, label, actions }) => (
            <th key={name} scope="col" title={name} aria-sort={sortOf(name)}>
              <span className="actions" aria-hidden="true">
                {actions.map((action) => (
                  <span key={action} style={{ width: markWidth }}>
                    {action}
                  </span>
                ))}
              </span>
              <SortButton label={label} sort={sortOf(name)} onClick={() => onSort(name)} />
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {lines.map((line) => (
          <Line
            key={line.who.map(({ id }) => id).join()}
            line={line}
            of={of}
            sought={sought}
            columns={columns}
            onTell={onTell}
          />
        ))}
      </tbody>
    </table>
  );
});

interface FilterProps {
  readonly label: string;
  readonly value: string;
  readonly onChange: (value: string) => void;
}

function Filter({ label, value, onChange }: FilterProps): ReactNode {
  return (
    <TextInput
      size="xs"
      aria-label={label}
      placeholder={label}
      value={value}
      onChange={(event) => onChange(event.currentTarget.value)}
    />
  );
}

interface SortProps {
  readonly label: string;
  readonly sort: "ascending" | "descending" | undefined;
  readonly onClick: () => void;
}

function SortButton({ label, sort, onClick }: SortProps): ReactNode {
  return (
    <button type="button" className="sort" onClick={onClick}>
      {label}
      <span aria-hidden="true">{sort === undefined ? "" : sort === "ascending" ? " ↑" : " ↓"}</span>
    </button>
  );
}

interface LineProps {
  readonly line: MatrixLine;
  readonly of: Of;
  readonly sought: string;
  readonly columns: readonly TableColumn[];
  /** Says what is pointed at. */
  readonly onTell: (told: string) => void;
}

function Line({ line: { who, roles, cells }, of, sought, columns, onTell }: LineProps): ReactNode {
  const [address] = useAddress();
  const [first] = who;
  // Whom one has looked for is named first.
  const found = sought === "" ? [] : who.filter(({ name }) => matches(sought, [name]));
  const names = [...new Set([...found, ...who].map(({ name }) => name))].slice(0, mostNames);
  const title = `${names.join(", ")}${who.length > names.length ? ` and ${who.length - names.length} more` : ""}`;
  const byTable = groupBy(cells, ({ table }) => table);
  return (
    <tr>
      <th scope="row" title={who.map(({ name }) => name).join(", ")}>
        {title}
        {of === "people" && <small className="soft">{roles.length === 0 ? "no role" : roles.join(", ")}</small>}
      </th>
      {columns.map(({ name: table, label, actions, count }) => {
        const answers = byTable.get(table) ?? none;
        const told = `${title}, ${label}: ${sayAnswers(answers, count)}`;
        const marks = actions.map((action) => {
          const answer = answers.find((one) => one.action === action);
          return <Mark key={action} reach={answer?.reach ?? "none"} title={answer && sayAnswer(answer, count)} />;
        });
        const isLink = of === "people" && first !== undefined;
        return (
          <td key={table} onMouseEnter={() => onTell(told)}>
            {isLink ? (
              <a
                href={printAddress({ ...address, view: "view-as", table, as: found[0]?.id ?? first.id })}
                aria-label={told}
                onFocus={() => onTell(told)}
              >
                {marks}
              </a>
            ) : (
              <span role="img" aria-label={told}>
                {marks}
              </span>
            )}
          </td>
        );
      })}
    </tr>
  );
}

function sayAnswers(answers: readonly MatrixAnswer[], total: number): string {
  const may = answers.filter(({ reach }) => reach !== "none").map((answer) => sayAnswer(answer, total));
  return may.length === 0 ? "nothing" : may.join("; ");
}

/** `edit some, 22 of 400`, `list all 400`. */
function sayAnswer({ action, reach, count }: MatrixAnswer, total: number): string {
  if (count === undefined) return `${action} ${reach}`;
  const found = count.toLocaleString("en");
  return reach === "all" ? `${action} all ${found}` : `${action} ${reach}, ${found} of ${total.toLocaleString("en")}`;
}
