import { SegmentedControl, Text } from "@mantine/core";
import { type ReactNode, useState } from "react";
import { printAddress, useAddress } from "./address.js";
import { groupBy } from "./group-by.js";
import { useProject } from "./project.js";
import { useAnswer } from "./use-answer.js";
import type { MatrixAnswer, MatrixLine } from "./worker/protocol.js";
import { ask } from "./worker-client.js";

type Of = "people" | "roles" | "groups";

const mostNames = 3;

/** Who may do what with which table: those who are equal share a line, and what nobody may is not there. */
export function Matrix(): ReactNode {
  const { overview, turn } = useProject();
  const [of, setOf] = useState<Of>("people");
  const { answer: lines, failure, isAsking } = useAnswer(() => ask("matrix", of), `${of} ${turn}`);
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
        <Text size="sm" role="status" className="soft">
          {failure ??
            (isAsking ? "…" : `${lines?.length} ${lines?.length === 1 ? "line" : "lines"}, equal ones together`)}
        </Text>
      </div>
      <div className="scroll wide">
        <table>
          <thead>
            <tr>
              <th scope="col">who</th>
              {overview.tables.map(({ name }) => (
                <th key={name} scope="col">
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {lines?.map((line) => (
              <Line key={line.who.map(({ id }) => id).join()} line={line} of={of} />
            ))}
          </tbody>
        </table>
      </div>
      <p className="legend">
        <span className="sample">all</span> every record <span className="sample">own</span> only records they own{" "}
        <span className="sample">some</span> some records, by their values; counted on the records loaded
      </p>
    </section>
  );
}

function Line({ line, of }: { line: MatrixLine; of: Of }): ReactNode {
  const [address] = useAddress();
  const { overview } = useProject();
  const { who, roles, cells } = line;
  const [first] = who;
  const names = who.slice(0, mostNames).map(({ name }) => name);
  const byTable = groupBy(cells, ({ table }) => table);
  return (
    <tr>
      <th scope="row" title={who.map(({ name }) => name).join(", ")}>
        {names.join(", ")}
        {who.length > names.length && ` and ${who.length - names.length} more`}
        {of === "people" && <small className="soft">{roles.length === 0 ? "no role" : roles.join(", ")}</small>}
      </th>
      {overview.tables.map(({ name: table }) => {
        const may = (byTable.get(table) ?? []).filter(({ reach }) => reach !== "none");
        const alike = groupBy(may, ({ reach, count }) => (reach === "all" ? reach : `${reach} ${count}`));
        const body = [...alike].map(([key, answers]) => (
          <span key={key} className="act">
            {answers.map(({ action }) => action).join(", ")} {answers[0] && reachOf(answers[0])}
          </span>
        ));
        return (
          <td key={table} className={may.length === 0 ? "none" : ""}>
            {may.length === 0 ? (
              <span className="soft">–</span>
            ) : of === "people" && first !== undefined ? (
              <a href={printAddress({ ...address, view: "view-as", table, as: first.id })}>{body}</a>
            ) : (
              body
            )}
          </td>
        );
      })}
    </tr>
  );
}

function reachOf({ reach, count }: MatrixAnswer): ReactNode {
  return (
    <b className={`reach ${reach}`}>
      {reach}
      {count !== undefined && reach !== "all" && ` ${count.toLocaleString("en")}`}
    </b>
  );
}
