import type { ActionName } from "portier";
import { explain, explanationWords, type WordSection } from "portier/explain";
import { useEffect, useRef, useState } from "react";
import type { Place } from "./Grid";
import { nameOf } from "./museum";

const actions: readonly ActionName[] = ["list", "view", "edit"];

/** Why a cell is as it is: the answer, what is missing, and the rules. For the developer, so it may name what is hidden. */
export function Why({ place, table, onClose }: { place: Place; table: string; onClose: () => void }) {
  const { viewer, record, field } = place;
  const [action, setAction] = useState<ActionName>("view");
  const heading = useRef<HTMLHeadingElement>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the panel takes the keyboard whenever it is about another cell
  useEffect(() => {
    heading.current?.focus();
    document.querySelector("[aria-selected=true]")?.scrollIntoView({ block: "nearest", inline: "nearest" });
  }, [place]);

  const words = explanationWords(explain(viewer.session, { action, table, record: record.row, field }));
  const [verdict = "", ...reason] = words.answer.split(": ");
  return (
    <aside
      aria-label="Why"
      onKeyDown={(event) => {
        if (event.key === "Escape") onClose();
      }}
    >
      <button type="button" className="close" onClick={onClose} aria-label="Close">
        ×
      </button>
      <h2 ref={heading} tabIndex={-1}>
        May {nameOf(viewer).replace(/^A /, "a ")} {action}{" "}
        {field !== undefined && (
          <>
            <em>{field}</em> of{" "}
          </>
        )}
        {record.key}?
      </h2>
      <div className="actions" role="group" aria-label="Action">
        {actions.map((one) => (
          <button key={one} type="button" aria-pressed={one === action} onClick={() => setAction(one)}>
            {one}
          </button>
        ))}
      </div>
      <p className={`answer ${verdict.toLowerCase()}`}>
        <b>{verdict}</b> {reason.join(": ")}
      </p>
      {words.note !== undefined && <p className="note">{words.note}</p>}
      <p className="roles">Roles held: {words.roles}</p>
      {words.sections.map((section) => (
        <Section key={section.title} section={section} />
      ))}
    </aside>
  );
}

function Section({ section: { kind, title, entries } }: { section: WordSection }) {
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
