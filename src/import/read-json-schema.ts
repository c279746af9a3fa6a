import { isMapping } from "../schema/reader.js";
import type { FoundColumn, FoundTable, FoundType } from "./found.js";

/**
 * The object types of a JSON Schema (its `$defs` or `definitions`, or the schema itself), or of an OpenAPI document (its
 * `components.schemas`), as tables. Their key is `id`, or else the first required property that ends so.
 */
export function readJsonSchema(schema: unknown): FoundTable[] {
  if (!isMapping(schema)) return [];
  const components = isMapping(schema["components"]) ? schema["components"]["schemas"] : undefined;
  const groups = [schema["$defs"], schema["definitions"], components].filter(isMapping);
  const types = groups.flatMap((group) => Object.entries(group));
  if (isMapping(schema["properties"])) types.push([String(schema["title"] ?? "records"), schema]);
  return types.flatMap(([name, type]) => (isMapping(type) ? tableOf(name, type) : []));
}

function tableOf(name: string, type: Readonly<Record<string, unknown>>): FoundTable[] {
  if (!isMapping(type["properties"])) return [];
  const required = Array.isArray(type["required"]) ? type["required"] : [];
  const columns = Object.entries(type["properties"]).map(([property, declared]) =>
    columnOf(property, isMapping(declared) ? declared : {}, required.includes(property)),
  );
  const key =
    columns.find((column) => column.name === "id") ?? columns.find((one) => !one.optional && /id$/i.test(one.name));
  const keys = key === undefined ? [] : [{ columns: [key.name], isPrimary: true }];
  return [{ schema: undefined, name, columns, keys, references: [] }];
}

function columnOf(name: string, declared: Readonly<Record<string, unknown>>, isRequired: boolean): FoundColumn {
  const kinds = [declared["type"]].flat();
  const kind = kinds.find((one) => one !== "null");
  const type = typeOf(declared, kind);
  const initial = declared["default"];
  const isPlain = typeof initial === "string" || typeof initial === "number" || typeof initial === "boolean";
  return {
    name,
    declared: String(declared["format"] ?? kind ?? "any"),
    type,
    remark: kind === "number" ? "is not exact; an exact number is a text of digits" : undefined,
    optional: !isRequired || kinds.includes("null") || declared["nullable"] === true,
    generated: false,
    computed: declared["readOnly"] === true,
    default: isPlain ? initial : undefined,
  };
}

function typeOf(declared: Readonly<Record<string, unknown>>, kind: unknown): FoundType | undefined {
  const values = declared["enum"];
  if (Array.isArray(values) && values.length > 0 && values.every((value) => typeof value === "string"))
    return { choice: values };
  switch (kind) {
    case "string":
      if (declared["format"] === "date") return "date";
      if (declared["format"] === "date-time") return "timestamp";
      return declared["format"] === "decimal" ? "decimal" : "text";
    case "integer":
    case "boolean":
      return kind;
    case "array": {
      const items = isMapping(declared["items"]) ? declared["items"] : {};
      const element = typeOf(items, items["type"]);
      const isScalar =
        element !== undefined && element !== "json" && !(typeof element === "object" && "list" in element);
      return isScalar ? { list: element } : "json";
    }
    case "object":
      return "json";
    default:
      // What is of another type, or of any, is kept as it is.
      return kind === undefined ? "json" : undefined;
  }
}
