import type { Field, Table } from "../schema/schema.js";
import type { FieldType } from "../schema/types/field-type.js";
import { problemKinds } from "./problem.js";
import type { AnswerShape, BodyShape } from "./routes.js";

/** A part of a description, in JSON Schema 2020-12. */
export type JsonSchema = Readonly<Record<string, unknown>>;

export const text: JsonSchema = { type: "string" };
const texts = listOf(text);

export function refTo(name: string): JsonSchema {
  return { $ref: `#/components/schemas/${name}` };
}

function listOf(items: JsonSchema): JsonSchema {
  return { type: "array", items };
}

/** An object whose properties are all there, but for those that are named; nothing else is in it. */
function object(properties: Readonly<Record<string, JsonSchema>>, optional: readonly string[] = []): JsonSchema {
  const required = Object.keys(properties).filter((name) => !optional.includes(name));
  return { type: "object", properties, required, additionalProperties: false };
}

/** The schemas that a table has of its own: its records as they are answered, and the values that may be given. */
export function tableSchemas(table: Table): Readonly<Record<string, JsonSchema>> {
  const name = componentName(table);
  const record = refTo(`Record_${name}`);
  return {
    [`Record_${name}`]: recordSchema(table),
    [`Values_${name}`]: valuesSchema(table),
    [`Page_${name}`]: object({
      records: listOf(record),
      total: {
        type: ["integer", "null"],
        minimum: 0,
        description: "How many there are; null where that was not asked",
      },
      next: { type: ["string", "null"], description: "What after takes for the next page; null for the last one" },
    }),
    [`Changed_${name}`]: object({
      record: { anyOf: [record, { type: "null" }], description: "As one sees it then; null where one does not" },
      dropped: listOf(refTo("Refusal")),
    }),
  };
}

/** Names of components are of few characters; of what is left out nothing is lost but looks. */
export function componentName({ name }: Table): string {
  return name.replaceAll(/[^\w.-]/g, (sign) => `_${sign.codePointAt(0)}_`);
}

/** Any field may be hidden in some record, so none but the key is required. */
function recordSchema(table: Table): JsonSchema {
  const keys = table.key.map(({ name }) => name).filter((name) => table.byName.has(name));
  return {
    type: "object",
    properties: Object.fromEntries(
      table.fields.map((field) => [field.name, fieldSchema(field, table.key.includes(field))]),
    ),
    required: keys,
    additionalProperties: false,
  };
}

function valuesSchema(table: Table): JsonSchema {
  const given = table.fields.filter(
    ({ computed, lookup, by }) => !computed && lookup === undefined && by === undefined,
  );
  return {
    type: "object",
    properties: Object.fromEntries(given.map((field) => [field.name, fieldSchema(field, table.key.includes(field))])),
    additionalProperties: false,
  };
}

/** Null where it is empty, as a key never is; what must be given is for the rules and the form to say. */
function fieldSchema({ type, label: title }: Field, isKey: boolean): JsonSchema {
  const schema = typeSchema(type);
  if (isKey) return { title, ...schema };
  return Object.keys(schema).length === 0 ? { title } : { title, anyOf: [schema, { type: "null" }] };
}

function typeSchema({ base, choices, element }: FieldType): JsonSchema {
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
      return listOf(element === undefined ? {} : typeSchema(element));
    case "json":
      return {};
    default:
      return base satisfies never;
  }
}

const confirmation = object({ rule: text, note: text }, ["note"]);
const scalar: JsonSchema = { type: ["string", "number", "boolean"] };

/** The schemas that all tables share. */
export const sharedSchemas: Readonly<Record<string, JsonSchema>> = {
  Me: object(
    {
      person: { type: ["string", "number", "null"] },
      actedBy: text,
      roles: texts,
      screens: texts,
      home: { type: ["string", "null"] },
    },
    ["actedBy"],
  ),
  Many: object({
    accepted: { type: "boolean" },
    results: listOf({
      oneOf: [
        object({ accepted: { const: true } }),
        object(
          {
            accepted: { const: false },
            reason: { enum: ["refused", "not-found", "invalid", "unconfirmed", "fault"] },
            refusals: listOf(refTo("Refusal")),
            confirm: listOf(refTo("Confirmation")),
          },
          ["confirm"],
        ),
      ],
    }),
  }),
  Form: object({
    table: text,
    label: text,
    isNew: { type: "boolean" },
    fields: listOf(
      object(
        {
          name: text,
          label: text,
          type: text,
          state: { enum: ["hidden", "read-only", "editable", "confirm"] },
          value: { description: "The stored value, or of a new record the default; absent where the field is hidden" },
          blind: { const: true },
          tentative: { const: true },
          undecided: { const: true },
          required: { type: "boolean" },
          note: text,
          confirm: listOf(refTo("Confirmation")),
          choices: listOf(scalar),
        },
        ["value", "blind", "tentative", "undecided", "note", "confirm", "choices"],
      ),
    ),
    actions: listOf(
      object(
        {
          name: text,
          permitted: { type: "boolean" },
          undecided: { const: true },
          note: text,
          confirm: listOf(refTo("Confirmation")),
        },
        ["undecided", "note", "confirm"],
      ),
    ),
  }),
  Choices: object({ choices: { anyOf: [listOf(scalar), { type: "null" }], description: "null: any value" } }),
  Confirmation: confirmation,
  Refusal: object({ field: text, reason: text, message: text }, ["field"]),
  Problem: {
    type: "object",
    description: "Problem details (RFC 9457)",
    required: ["type", "title", "status"],
    properties: {
      type: { enum: Object.keys(problemKinds).map((kind) => `urn:portier:problem:${kind}`) },
      title: text,
      status: { type: "integer" },
      detail: text,
      refusals: listOf(refTo("Refusal")),
      confirm: listOf(refTo("Confirmation")),
      problems: listOf(object({ message: text, hint: text, offset: { type: "integer" } }, ["hint", "offset"])),
    },
  },
};

const change: Readonly<Record<string, JsonSchema>> = {
  mode: { enum: ["strict", "lenient"], description: "lenient: refused fields keep their stored values" },
  confirmed: { ...texts, description: "The rules that were to be confirmed" },
};

export function bodySchema(shape: BodyShape, table: Table): JsonSchema {
  const values = refTo(`Values_${componentName(table)}`);
  const whole = (properties: Readonly<Record<string, JsonSchema>>) =>
    object({ ...properties, ...change }, Object.keys(change));
  switch (shape) {
    case "values":
      return whole({ values });
    case "changes":
      return whole({ changes: listOf(object({ key: text, values })) });
    case "bulk":
      return whole({ keys: texts, values });
    case "records":
      return whole({ records: listOf(values) });
    case "confirmation":
      return whole({});
    default:
      return shape satisfies never;
  }
}

/** What is answered as JSON; undefined for an answer without a body, and for a file. */
export function answerSchema(shape: AnswerShape, table: Table | undefined): JsonSchema | undefined {
  const own = (kind: string) => refTo(`${kind}_${table === undefined ? "" : componentName(table)}`);
  switch (shape) {
    case "me":
      return refTo("Me");
    case "page":
      return own("Page");
    case "record":
      return own("Record");
    case "made":
    case "changed":
      return own("Changed");
    case "many":
      return refTo("Many");
    case "form":
      return refTo("Form");
    case "choices":
      return refTo("Choices");
    case "description":
      return { type: "object", description: "OpenAPI 3.1" };
    case "deleted":
    case "file":
      return undefined;
    default:
      return shape satisfies never;
  }
}
