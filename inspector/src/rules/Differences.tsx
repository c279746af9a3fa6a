import type { AccessChange } from "portier/verify";
import type { ReactNode } from "react";
import { useProject } from "../project.js";
import type { Differences as Found } from "../worker/protocol.js";

const mostPersons = 4;

/** Who gains and loses what by what is written, against what is saved: on the records there are, and by the rules alone. */
export function Differences({ found }: { found: Found }): ReactNode {
  const { overview } = useProject();
  const nameOf = (id: string) => overview.eyes.find((eye) => eye.id === id)?.name ?? id;
  const { people, rules } = found;
  if (people.length + rules.length === 0) return <p>Nobody gains or loses access.</p>;
  return (
    <div className="differences">
      {people.map(({ persons, gains, losses }) => (
        <section key={persons.join()} aria-label={persons.map(nameOf).join(", ")}>
          <h3>
            {persons.slice(0, mostPersons).map(nameOf).join(", ")}
            {persons.length > mostPersons && ` and ${persons.length - mostPersons} more`}
          </h3>
          <ul>
            {gains.map((line) => (
              <Change key={`+ ${keyOf(line)}`} sign="+" word="gains" line={line} />
            ))}
            {losses.map((line) => (
              <Change key={`- ${keyOf(line)}`} sign="−" word="loses" line={line} />
            ))}
          </ul>
        </section>
      ))}
      {rules.length > 0 && (
        <section aria-label="By the rules">
          <h3>By the rules, whatever is stored</h3>
          <ul>
            {rules.map((one) => (
              <li key={JSON.stringify(one)} className={one.change}>
                {one.who.join(", ")}: {one.actions.join(", ")} {one.table} {one.fields.join(", ")}{" "}
                <span className="soft">
                  {one.change === "other"
                    ? one.isTentative
                      ? "with other results"
                      : "by other conditions"
                    : `${one.before} → ${one.after}`}
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}

function keyOf({ table, actions, fields, samples }: AccessChange): string {
  return [table, actions, fields, samples].join(" ");
}

function Change({ sign, word, line }: { sign: string; word: string; line: AccessChange }): ReactNode {
  const { table, actions, fields, records, of, samples, sensitive } = line;
  return (
    <li className={word}>
      <b>
        {sign} {word}
      </b>{" "}
      {actions.join(", ")} {fields.join(", ")}{" "}
      {records === undefined ? `of new ${table}` : `on ${records} of ${of} ${table}`}
      {sensitive && <b> sensitive</b>}
      {samples.length > 0 && <span className="soft"> such as {samples.join(", ")}</span>}
    </li>
  );
}
