import type {
  ColumnNode,
  ColumnUpdateNode,
  InsertQueryNode,
  OperationNode,
  PrimitiveValueListNode,
  ValueListNode,
  ValueNode,
  ValuesNode,
} from "kysely";
import type { Row } from "../conditions/source.js";
import { portierError } from "../schema/problems.js";
import { type Field, isOwn, type Table } from "../schema/schema.js";

/** A part that is not known here may mean anything: it is refused, not passed over. */
export function onlyParts(node: OperationNode, known: readonly string[]): void {
  for (const [part, value] of Object.entries(node)) {
    if (part !== "kind" && value !== undefined && !known.includes(part)) throw refusedNode(`"${part}"`);
  }
}

export function refusedNode(what: string): Error {
  const hint = "write plain values to one declared table, found by a where";
  return portierError("wrong-call", { what: `a statement that is judged cannot hold ${what}`, hint });
}

export function rowsOf({ columns = [], values, defaultValues }: InsertQueryNode, table: Table): Row[] {
  if (defaultValues === true) return [{}];
  if (values?.kind !== "ValuesNode") throw refusedNode("a select for its values");
  const fields = columns.map((column) => fieldOf(column, table));
  return (values as ValuesNode).values.map((line) => {
    const given = fields.flatMap((field, index): [string, unknown][] => {
      if (line.kind === "PrimitiveValueListNode") return [[field.name, (line as PrimitiveValueListNode).values[index]]];
      const value = (line as ValueListNode).values[index];
      return value?.kind === "DefaultInsertValueNode" ? [] : [[field.name, plainValue(value)]];
    });
    return Object.fromEntries(given);
  });
}

export function updateOf({ column, value }: ColumnUpdateNode, table: Table): [string, unknown] {
  return [fieldOf(column, table).name, plainValue(value)];
}

function plainValue(node: OperationNode | undefined): unknown {
  if (node?.kind !== "ValueNode") throw refusedNode("a value that the database works out");
  return (node as ValueNode).value;
}

function fieldOf(node: OperationNode, table: Table): Field {
  if (node.kind !== "ColumnNode") throw refusedNode(`a ${node.kind} in the place of a column`);
  const { name } = (node as ColumnNode).column;
  const field = table.fields.find((one) => isOwn(one) && one.column === name);
  if (field !== undefined) return field;
  const candidates = table.fields.filter(isOwn).map(({ column }) => column);
  throw portierError("unknown-field", { table: table.name, name, candidates });
}

/** The fields that `returning` names, under the names that it gives them. */
export function returnedFields(node: OperationNode, table: Table): [string, Field][] {
  switch (node.kind) {
    case "SelectAllNode":
      return table.fields.filter(isOwn).map((field) => [field.column, field]);
    case "ColumnNode": {
      const field = fieldOf(node, table);
      return [[field.column, field]];
    }
    case "ReferenceNode": {
      const { column } = node as unknown as { column: OperationNode };
      return returnedFields(column, table);
    }
    case "AliasNode": {
      const { node: inner, alias } = node as unknown as { node: OperationNode; alias: OperationNode };
      const [[, field] = []] = returnedFields(inner, table);
      const { name } = alias as unknown as { name?: string };
      if (field === undefined || name === undefined) throw refusedNode("this in returning");
      return [[name, field]];
    }
    default:
      throw refusedNode(`a ${node.kind} in returning`);
  }
}
