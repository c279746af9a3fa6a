import type { Portier, Row } from "portier";
import type { Connection } from "portier/database";

const kinds = ["Crates", "Courier", "Lamps", "Labels", "Guards", "Mounts", "Paint", "Printing"];
const weeks = 40;

/**
 * More rows of the plan, so that it is as long as a real one: what each exhibition spends week by week. The same every
 * time.
 */
export function planRows(exhibitions: readonly Row[], from: number): Row[] {
  const items = exhibitions.flatMap(({ title }) =>
    Array.from({ length: weeks }, (_, week) => kinds.map((kind) => `${title}, week ${week + 1}: ${kind}`)).flat(),
  );
  return items.map((item, index) => {
    const amounts = [7, 11, 13, 17].map((step) => (index * step) % 90);
    const [q1, q2, q3, q4] = amounts.map((amount) => `${amount}.00`);
    const total = `${amounts.reduce((sum, amount) => sum + amount, 0)}.00`;
    const row = from + index;
    return { id: `b-${String(row).padStart(4, "0")}`, row, item, q1, q2, q3, q4, total, remark: null };
  });
}

/** Totals are worked out by the database, unless the same change sets one. */
export async function workOutTotals(portier: Portier, connection: Connection): Promise<void> {
  const quarters = ["q1", "q2", "q3", "q4"];
  const table = portier.schema.tables.get("plan");
  const column = (name: string) => connection.dialect.quoteName(table?.byName.get(name)?.column ?? name);
  const changed = quarters.map((name) => `new.${column(name)} is distinct from old.${column(name)}`).join(" or ");
  const sum = quarters.map((name) => `coalesce(new.${column(name)}, 0)`).join(" + ");
  const total = column("total");
  await connection.query(
    `create or replace function museum_total() returns trigger language plpgsql as $$ begin
      if (${changed}) and new.${total} is not distinct from old.${total} then new.${total} := ${sum}; end if;
      return new;
    end $$`,
    [],
  );
  const name = connection.dialect.quoteName(table?.source ?? "plan");
  await connection.query(
    `create or replace trigger museum_total before update on ${name} for each row execute function museum_total()`,
    [],
  );
}
