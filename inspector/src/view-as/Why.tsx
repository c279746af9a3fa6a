import { Button, CloseButton, Group, SegmentedControl } from "@mantine/core";
import type { ActionName } from "portier";
import type { WordSection } from "portier/tooling";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { useProject } from "../project.js";
import { useAnswer } from "../use-answer.js";
import type { TableShape } from "../worker/protocol.js";
import { ask } from "../worker-client.js";

/** What is asked about: somebody's view of one field of one record, or of the record where it does not exist for them. */
export interface Place {
  readonly eye: string;
  readonly key: string;
  readonly field: string | undefined;
}

interface WhyProps {
  readonly place: Place;
  readonly table: TableShape;
  readonly onClose: () => void;
  /** Keeps what holds of the record as an expectation; undefined where that is not offered. */
  readonly onKeep: (() => void) | undefined;
}

/** Why a cell is as it is: the answer, what is missing, and the rules. For the developer, so it may name what is hidden. */
export function Why({ place: { eye, key, field }, table, onClose, onKeep }: WhyProps): ReactNode {
  const { overview, turn } = useProject();
  const [action, setAction] = useState<ActionName>("view");
  const heading = useRef<HTMLHeadingElement>(null);
  useEffect(() => heading.current?.focus(), []);
  const { answer: words, failure } = useAnswer(
    () => ask("why", { eye, table: table.name, key, field, action }),
    [eye, table.name, key, field, action, turn].join(" "),
  );
  const name = overview.eyes.find(({ id }) => id === eye)?.name ?? eye;
  const labelOf = (name: string) => table.fields.find((one) => one.name === name)?.label ?? name;
  const actions = table.actions.filter((one) => one !== "create" && (field === undefined || one !== "delete"));
  return (
    <aside
      aria-label="Why"
      className="why"
      onKeyDown={(event) => {
        if (event.key === "Escape") onClose();
      }}
    >
      <Group justify="space-between" wrap="nowrap" align="start">
        <h2 ref={heading} tabIndex={-1}>
          May {name.replace(/^A /, "a ")} {action} {field !== undefined && <em>{labelOf(field)} of </em>}
          {table.label} {key}?
        </h2>
        <CloseButton aria-label="Close" onClick={onClose} />
      </Group>
      <SegmentedControl
        size="xs"
        aria-label="Action"
        data={actions.slice(0, 4)}
        value={action}
        onChange={(one) => setAction(one as ActionName)}
      />
      {failure !== undefined && <p className="failure">{failure}</p>}
      {words !== undefined && (
        <>
          <p className={`answer ${words.verdict}`}>
            <b>{words.verdict.toUpperCase()}</b> {words.answer}
          </p>
          {words.rule !== undefined && <p className="soft">Decided by {words.rule}</p>}
          {words.note !== undefined && <p className="note">{words.note}</p>}
          <p className="soft">Roles: {words.roles}</p>
          {words.sections.map((section) => (
            <Section key={section.title} section={section} />
          ))}
        </>
      )}
      {onKeep !== undefined && (
        <Button size="compact-sm" variant="default" onClick={onKeep}>
          Add as expectation
        </Button>
      )}
    </aside>
  );
}

function Section({ section: { kind, title, entries } }: { section: WordSection }): ReactNode {
  return (
    <section className={kind}>
      <h3>{title}</h3>
      <ul>
        {entries.map((entry) => (
          <li key={`${entry.text} ${entry.details[0]?.text}`}>
            {entry.text}
            <dl>
              {entry.details.map(({ label, text }) => (
                <div key={label}>
                  <dt>{label}</dt>
                  <dd>{text}</dd>
                </div>
              ))}
            </dl>
          </li>
        ))}
      </ul>
    </section>
  );
}
