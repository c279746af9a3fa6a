import { type KeptRange, keptRanges } from "portier/ranges";
import { portier } from "./museum";

const effects: Readonly<Record<KeptRange["effect"], string>> = {
  permit: "may be edited by",
  deny: "is locked for",
  reserve: "is kept by",
  confirm: "asks to confirm",
};

/** The day of an instant where the house stands. */
function day(instant: string): string {
  return new Date(instant).toLocaleDateString("en-CA", { timeZone: portier.schema.timeZone });
}

/** The cell ranges of a grid, each with who keeps it; nothing for a table that is no grid. */
export function Ranges({ table }: { table: string }) {
  const ranges = keptRanges(portier, table);
  if (ranges.length === 0) return null;
  return (
    <details className="ranges">
      <summary>{ranges.length} ranges</summary>
      <table>
        <thead>
          <tr>
            <th scope="col">range</th>
            <th scope="col">who</th>
            <th scope="col">rule</th>
            <th scope="col">note</th>
          </tr>
        </thead>
        <tbody>
          {ranges.map(({ range, name, rule, effect, action, to, note, from, until }) => (
            <tr key={`${rule} ${action} ${range}`}>
              <td>
                <b>{range}</b> {name}
              </td>
              <td>
                {effects[effect]} {to.join(", ")} {from && `from ${day(from)}`} {until && `until ${day(until)}`}
              </td>
              <td>{rule}</td>
              <td>{note}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
}
