import type { Field, Schema, Table } from "../schema/schema.js";
import type { FieldType } from "../schema/types/field-type.js";
import { problemKinds } from "./problem.js";
import { type Route, routes } from "./routes.js";

interface Described {
  readonly base: string;
  readonly acts: Readonly<Record<string, Readonly<Record<string, unknown>>>>;
}

/**
 * The interface as OpenAPI 3.1, made from a document: a path for each table, with the shape of its records. It says what
 * may be there, and not what one person sees: every field may be hidden, so none is required.
 */
export function openApi({ tables }: Pick<Schema, "tables">, { base, acts }: Described): object {
  const paths: Record<string, Record<string, unknown>> = {};
  const add = (path: string, route: Route, table: Table | undefined, action?: string) => {
    const full = `${base}${path}`.replaceAll(/:(\w+)/g, "{$1}");
    paths[full] = { ...paths[full], [route.method.toLowerCase()]: operation(route, table, action) };
  };
  for (const route of routes) {
    if (!route.path.includes(":table")) {
      add(route.path, route, undefined);
      continue;
    }
    for (const table of tables.values()) {
      const path = route.path.replace(":table", encodeURIComponent(table.name));
      if (!path.includes(":action")) add(path, route, table);
      else {
        for (const action of table.actions.filter((one) => Object.hasOwn(acts[table.name] ?? {}, one))) {
          add(path.replace(":action", encodeURIComponent(action)), route, table, action);
        }
      }
    }
  }
  return {
    openapi: "3.1.0",
    info: { title: "Records, as each person may see and change them", version: "1" },
    paths,
    components: {
      schemas: {
        ...Object.fromEntries([...tables.values()].map((table) => [schemaName(table), recordSchema(table)])),
        Problem: problemSchema,
        Refusal: refusalSchema,
      },
    },
  };
}

/** Names of components are of few characters; of what is left out nothing is lost but looks. */
function schemaName({ name }: Table): string {
  return `Record_${name.replaceAll(/[^\w.-]/g, (sign) => `_${sign.codePointAt(0)}_`)}`;
}

function operation({ method, path, summary }: Route, table: Table | undefined, action: string | undefined): object {
  const names = [...path.matchAll(/:(\w+)/g)].map(([, name]) => name ?? "").filter((name) => name !== "table");
  const inPath = names
    .filter((name) => name !== "action")
    .map((name) => ({ name, in: "path", required: true, schema: { type: "string" } }));
  const parameters = [...inPath, ...queryOf(method, path, table), ...headersOf(method, path)];
  const body = bodyOf(method, path, table);
  return {
    summary: action === undefined ? summary : `${summary}: ${action}`,
    ...(table === undefined ? {} : { tags: [table.name] }),
    ...(parameters.length === 0 ? {} : { parameters }),
    ...(body === undefined ? {} : { requestBody: { required: !path.startsWith("/acts"), content: jsonOf(body) } }),
    responses: { ...answersOf(method, path, table), default: problemAnswer },
  };
}

const text = { type: "string" };
const jsonOf = (schema: object) => ({ "application/json": { schema } });
const refTo = (table: Table) => ({ $ref: `#/components/schemas/${schemaName(table)}` });

const problemAnswer = {
  description: Object.entries(problemKinds)
    .map(([kind, [status, title]]) => `${status} ${kind}: ${title}`)
    .join("; "),
  content: { "application/problem+json": { schema: { $ref: "#/components/schemas/Problem" } } },
};

function queryOf(method: string, path: string, table: Table | undefined): object[] {
  if (path === "/records/:table/:key" && method === "DELETE") {
    return [
      {
        name: "confirmed",
        in: "query",
        schema: { type: "array", items: text },
        description: "Rules that were confirmed",
      },
    ];
  }
  if (path !== "/records/:table" || method !== "GET" || table === undefined) return [];
  const query = (name: string, description: string, schema: object = text) => ({
    name,
    in: "query",
    schema,
    description,
  });
  return [
    query("where", "A condition on the table's own fields, in the language of the rules"),
    query("search", "A text that some text field contains"),
    query("sort", "Names of fields with commas between, each with - in front where the greatest comes first"),
    query("limit", "Records of the page", { type: "integer", minimum: 0 }),
    query("offset", "Records before the page", { type: "integer", minimum: 0 }),
    ...table.fields
      .filter(({ lookup, by }) => lookup === undefined && by === undefined)
      .map(({ name }) => query(name, "This value; empty for none")),
  ];
}

function headersOf(method: string, path: string): object[] {
  const header = (name: string, description: string) => ({ name, in: "header", schema: text, description });
  if (path === "/records/:table/:key" && method === "GET") return [header("If-None-Match", "A version that is known")];
  const changesOne = (path === "/records/:table/:key" && method !== "GET") || path.startsWith("/acts");
  return changesOne ? [header("If-Match", "The version that was seen; another one is not changed")] : [];
}

function bodyOf(method: string, path: string, table: Table | undefined): object | undefined {
  if (method === "GET" || method === "DELETE" || table === undefined) return undefined;
  const change = {
    mode: { enum: ["strict", "lenient"], description: "lenient: refused fields keep their stored values" },
    confirmed: { type: "array", items: text, description: "The rules that were to be confirmed" },
  };
  const object = (properties: object, required: readonly string[]) => ({
    type: "object",
    properties: { ...properties, ...change },
    required,
    additionalProperties: false,
  });
  if (path.startsWith("/bulk"))
    return object({ keys: { type: "array", items: text }, values: refTo(table) }, ["keys", "values"]);
  if (path === "/records/:table" && method === "PATCH") {
    const keyed = { type: "object", properties: { key: text, values: refTo(table) }, required: ["key", "values"] };
    return object({ changes: { type: "array", items: keyed } }, ["changes"]);
  }
  if (path.startsWith("/imports")) return object({ records: { type: "array", items: refTo(table) } }, ["records"]);
  return path.startsWith("/acts") ? object({}, []) : object({ values: refTo(table) }, ["values"]);
}

function answersOf(method: string, path: string, table: Table | undefined): object {
  const ok = (description: string, schema: object) => ({ "200": { description, content: jsonOf(schema) } });
  if (table === undefined) return ok("Who asks", { type: "object" });
  const after = {
    type: "object",
    properties: {
      record: { anyOf: [refTo(table), { type: "null" }] },
      dropped: { type: "array", items: { $ref: "#/components/schemas/Refusal" } },
    },
  };
  if (path === "/records/:table" && method === "GET") {
    return ok("A page", {
      type: "object",
      properties: { records: { type: "array", items: refTo(table) }, total: { type: "integer" } },
    });
  }
  const isMany =
    path.startsWith("/bulk") || path.startsWith("/imports") || (path === "/records/:table" && method === "PATCH");
  if (isMany) {
    const results = {
      type: "object",
      properties: { accepted: { type: "boolean" }, results: { type: "array", items: { type: "object" } } },
    };
    return { ...ok("All of it is done", results), "422": { description: "Nothing is done", content: jsonOf(results) } };
  }
  if (path === "/records/:table") return { "201": { description: "Made", content: jsonOf(after) } };
  if (method === "DELETE") return { "204": { description: "Deleted" } };
  if (path === "/records/:table/:key" && method === "GET") return ok("The record", refTo(table));
  if (path.startsWith("/exports")) {
    return { "200": { description: "A file", content: { "text/csv": { schema: text } } } };
  }
  if (path.startsWith("/forms") || path.startsWith("/choices")) return ok("The answer", { type: "object" });
  return ok("Done", after);
}

function recordSchema(table: Table): object {
  return {
    type: "object",
    properties: Object.fromEntries(table.fields.map((field) => [field.name, fieldSchema(field)])),
  };
}

function fieldSchema({ type, computed, lookup, by }: Field): object {
  const isMade = computed || lookup !== undefined || by !== undefined;
  const schema = typeSchema(type);
  // Null where it is empty; what is required is for the rules and the form to say.
  return {
    ...("anyOf" in schema ? schema : { anyOf: [schema, { type: "null" }] }),
    ...(isMade ? { readOnly: true } : {}),
  };
}

function typeSchema({ base, choices, element }: FieldType): object {
  switch (base) {
    case "text":
      return text;
    case "integer":
      return { type: "integer" };
    case "decimal":
      return { type: "string", pattern: "^-?\\d+(\\.\\d+)?$" };
    case "boolean":
      return { type: "boolean" };
    case "date":
      return { type: "string", format: "date" };
    case "timestamp":
      return { type: "string", format: "date-time" };
    case "choice":
      return { type: "string", enum: choices ?? [] };
    case "list":
      return { type: "array", items: element === undefined ? {} : typeSchema(element) };
    case "json":
      return { anyOf: [{}] };
    default:
      return base satisfies never;
  }
}

const problemSchema = {
  type: "object",
  description: "Problem details (RFC 9457)",
  required: ["type", "title", "status"],
  properties: {
    type: text,
    title: text,
    status: { type: "integer" },
    detail: text,
    refusals: { type: "array", items: { $ref: "#/components/schemas/Refusal" } },
    confirm: { type: "array", items: { type: "object", properties: { rule: text, note: text } } },
  },
};

const refusalSchema = {
  type: "object",
  required: ["reason", "message"],
  properties: { field: text, reason: text, message: text },
};
