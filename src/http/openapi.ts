import type { Table } from "../schema/schema.js";
import {
  answerSchema,
  bodySchema,
  componentName,
  type JsonSchema,
  sharedSchemas,
  tableSchemas,
  text,
} from "./openapi-schemas.js";
import type { HttpDescription } from "./options.js";
import { type ProblemKind, problemKinds } from "./problem.js";
import { nullsName, parameterOf, type queryWords } from "./query.js";
import { type AnswerShape, type Route, routes } from "./routes.js";

/** What the description of an interface is made of. */
export interface OpenApiOptions {
  /** The path under which the tables are served, as `/api`. */
  readonly base: string;
  /** For each table its custom actions, with the JSON Schema of what each takes. */
  readonly actions: Readonly<Record<string, Readonly<Record<string, unknown>>>>;
  /** What the application says of itself. Default: a title, and a bearer token. */
  readonly description?: HttpDescription;
}

/**
 * The interface as OpenAPI 3.1, made from tables: a path for each, with the shapes of what is sent and answered. Any field may
 * be hidden in some record, so of a record its key alone is required.
 */
export function openApi(
  tables: ReadonlyMap<string, Table>,
  { base, actions, description = {} }: OpenApiOptions,
): object {
  const paths: Record<string, Record<string, unknown>> = {};
  const add = (path: string, route: Route, table: Table | undefined, action?: string) => {
    const full = path.replaceAll(/:(\w+)/g, "{$1}");
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
        for (const action of table.actions.filter((one) => Object.hasOwn(actions[table.name] ?? {}, one))) {
          add(path.replace(":action", encodeURIComponent(action)), route, table, action);
        }
      }
    }
  }
  const { securitySchemes = bearer } = description;
  return {
    openapi: "3.1.0",
    info: { title: "Records, as each person may see and change them", version: "1", ...description.info },
    servers: description.servers ?? [{ url: base === "" ? "/" : base }],
    security: Object.keys(securitySchemes).map((name) => ({ [name]: [] })),
    paths,
    components: {
      schemas: { ...Object.assign({}, ...[...tables.values()].map(tableSchemas)), ...sharedSchemas },
      responses: Object.fromEntries(
        Object.entries(problemKinds).map(([kind, [status, title]]) => [kind, problemAnswer(`${status}: ${title}`)]),
      ),
      securitySchemes,
    },
  };
}

const bearer = { signIn: { type: "http", scheme: "bearer", description: "As the application signs its users in" } };

function operation(route: Route, table: Table | undefined, action: string | undefined): object {
  const { path, summary, body, version } = route;
  const names = [...path.matchAll(/:(\w+)/g)].map(([, name]) => name ?? "");
  const inPath = names
    .filter((name) => name !== "action" && name !== "table")
    .map((name) => ({ name, in: "path", required: true, schema: text }));
  const parameters = [
    ...inPath,
    ...(route.answer === "page" && table !== undefined ? pageQuery(table) : []),
    ...(route.answer === "deleted" ? [confirmedQuery] : []),
    ...(version === undefined ? [] : [{ name: version, in: "header", schema: text, description: versions[version] }]),
  ];
  const id = [route.name, table && componentName(table), action];
  return {
    operationId: id.filter((part) => part !== undefined).join("_"),
    summary: action === undefined ? summary : `${summary}: ${action}`,
    ...(table === undefined ? {} : { tags: [table.name] }),
    ...(parameters.length === 0 ? {} : { parameters }),
    ...(body === undefined || table === undefined
      ? {}
      : { requestBody: { required: body !== "confirmation", content: jsonOf(bodySchema(body, table)) } }),
    responses: { ...answersOf(route, table), ...problemsOf(route), default: problemAnswer("Any other problem") },
  };
}

const versions = {
  "If-None-Match": "A version that is known: it is not answered again",
  "If-Match": "The version that was seen: another one is not changed",
} as const;

const jsonOf = (schema: JsonSchema) => ({ "application/json": { schema } });

const problemAnswer = (description: string) => ({
  description,
  content: { "application/problem+json": { schema: { $ref: "#/components/schemas/Problem" } } },
});

function query(name: string, description: string, schema: JsonSchema = text): object {
  return { name, in: "query", schema, description };
}

const confirmedQuery = query("confirmed", "Rules that were confirmed", { type: "array", items: text });

function pageQuery(table: Table): object[] {
  const shown = table.fields.filter(({ lookup, by }) => lookup === undefined && by === undefined);
  const described: Readonly<Record<(typeof queryWords)[number], object>> = {
    where: query("where", "A condition on the table's own fields, in the language of the rules"),
    search: query("search", "A text that some text field contains"),
    sort: query("sort", "Names of fields with commas between, each with - in front where the greatest comes first"),
    limit: query("limit", "Records of the page", { type: "integer", minimum: 0 }),
    offset: query("offset", "Records before the page", { type: "integer", minimum: 0 }),
    after: query("after", "The next of the page before this one, in the same order; in place of an offset"),
    total: query("total", "Whether it is counted how many there are in all", { type: "boolean", default: true }),
    [nullsName]: query(nullsName, "Names of fields with commas between that have no value"),
  };
  return [...Object.values(described), ...shown.map(({ name }) => query(parameterOf(name), `The value of ${name}`))];
}

const etag = { ETag: { schema: text, description: "The version of the record, as one sees it" } };

const answerTexts: Readonly<Record<AnswerShape, string>> = {
  me: "Who is signed in",
  page: "A page",
  record: "The record",
  made: "It is made",
  changed: "It is done",
  deleted: "It is deleted",
  many: "All of it is done",
  form: "The form",
  choices: "The choices",
  file: "A file",
  description: "This description",
};

function answersOf({ answer, path }: Route, table: Table | undefined): object {
  const description = answerTexts[answer];
  const schema = answerSchema(answer, table);
  if (answer === "deleted") return { "204": { description } };
  if (schema === undefined) return { "200": { description, content: { "text/csv": { schema: text } } } };
  const content = jsonOf(schema);
  if (answer === "many") return { "200": { description, content }, "422": { description: "Nothing is done", content } };
  if (answer === "made") {
    const headers = { ...etag, Location: { schema: text, description: "Where the record is, if one sees it" } };
    return { "201": { description, headers, content } };
  }
  const isVersioned = answer === "record" || answer === "changed" || (answer === "form" && path.includes(":key"));
  const known = answer === "record" ? { "304": { description: "It is the version that is known" } } : {};
  return { "200": { description, ...(isVersioned ? { headers: etag } : {}), content }, ...known };
}

/** The problems that a route may be answered with; several of one status are told apart by their type. */
function problemsOf(route: Route): object {
  const { path, answer, body, method, version } = route;
  const isChange = method !== "GET";
  const kinds: readonly (ProblemKind | false)[] = [
    "not-signed-in",
    "not-acceptable",
    "fault",
    "busy",
    (answer === "page" || body !== undefined) && "bad-request",
    path.includes(":table") && "not-found",
    body !== undefined && "too-large",
    body !== undefined && "wrong-type",
    (isChange || answer === "form" || answer === "choices") && answer !== "many" && "refused",
    isChange && "constraint",
    isChange && answer !== "many" && answer !== "deleted" && "invalid",
    version === "If-Match" && "changed",
  ];
  return Object.fromEntries(
    kinds
      .filter((kind) => kind !== false)
      .map((kind) => [String(problemKinds[kind][0]), { $ref: `#/components/responses/${kind}` }]),
  );
}
