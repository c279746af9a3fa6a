import { Checkbox, Text } from "@mantine/core";
import { type ReactNode, useState } from "react";
import { printAddress, useAddress } from "./address.js";
import { useProject } from "./project.js";
import { useAnswer } from "./use-answer.js";
import { ask } from "./worker-client.js";

/** A list is cut here: what is beyond can be found by mending what is above. */
const mostShown = 200;

/** Expectations, compared with what the rules permit, and what of the rules none of them covers. */
export function Expectations(): ReactNode {
  const { expectations, turn } = useProject();
  const [address] = useAddress();
  const [all, setAll] = useState(false);
  const key = [turn, ...expectations.map(({ version }) => version)].join(" ");
  const files = expectations.map(({ name, text }) => ({ name, text }));
  const { answer, failure, isAsking } = useAnswer(() => ask("test", files), key);
  const { answer: coverage, isAsking: isCovering } = useAnswer(() => ask("coverage", files), key);
  const results = answer?.results ?? [];
  const open = results.filter(({ passed }) => !passed);
  const shown = all ? results : open;
  const uncovered = coverage?.filter((rule) => rule.open.length > 0) ?? [];
  const covered = (coverage?.length ?? 0) - uncovered.length;
  const number = (count: number) => count.toLocaleString("en");
  return (
    <section aria-label="Expectations" className="expectations">
      <div className="bar">
        <Text role="status">
          {failure ??
            (isAsking
              ? "Running the expectations …"
              : `${number(results.length - open.length)} passed, ${number(open.length)} failed`)}
        </Text>
        <Checkbox size="xs" label="show passed ones, too" checked={all} onChange={() => setAll(!all)} />
      </div>
      {answer?.problems.map((problem) => (
        <p key={problem} className="failure">
          {problem}
        </p>
      ))}
      {answer !== undefined && results.length === 0 && answer.problems.length === 0 && (
        <p className="empty">
          There are no expectations yet. View a table as somebody, and add what should stay as it is: it is written to{" "}
          {expectations[0]?.name}.
        </p>
      )}
      {shown.length > 0 && (
        <table className="plain">
          <thead>
            <tr>
              <th scope="col">where</th>
              <th scope="col">what</th>
              <th scope="col">expected</th>
              <th scope="col">found</th>
            </tr>
          </thead>
          <tbody>
            {shown
              .slice(0, mostShown)
              .map(({ file, line, what, record, passed, expected, found, why, name }, index) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: the same may be expected twice
                <tr key={index} className={passed ? "met" : "unmet"}>
                  <td>
                    {file}:{line}
                  </td>
                  <td>
                    {passed ? "✓" : "✗"} {what}
                    {record !== undefined && !what.includes(record) && ` ${record}`}
                    {name !== undefined && <div className="soft">{name}</div>}
                    {why !== undefined && <pre>{why}</pre>}
                  </td>
                  <td>{expected}</td>
                  <td>{found}</td>
                </tr>
              ))}
          </tbody>
        </table>
      )}
      {shown.length > mostShown && <p className="soft">and {number(shown.length - mostShown)} more</p>}
      <h2>Rules not covered</h2>
      <p className="soft">
        {isCovering || coverage === undefined
          ? "Working out the coverage …"
          : `${covered} of ${coverage.length} rules are covered in every part.`}
      </p>
      {uncovered.length > 0 && (
        <table className="plain">
          <tbody>
            {uncovered.map(({ rule, open: parts, line }) => (
              <tr key={rule}>
                <th scope="row">
                  <a href={printAddress({ ...address, view: "rules", line })}>{rule}</a>
                </th>
                <td>{parts.join("; ")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
