import { Ajv2020, type ValidateFunction } from "ajv/dist/2020.js";
import addFormats from "ajv-formats";

interface Operation {
  readonly responses: Readonly<Record<string, Described>>;
}

interface Described {
  readonly $ref?: string;
  readonly content?: Readonly<Record<string, { readonly schema: object }>>;
}

export interface Document {
  readonly openapi: string;
  readonly servers: readonly { readonly url: string }[];
  readonly security: readonly object[];
  readonly paths: Readonly<Record<string, Readonly<Record<string, Operation>>>>;
  readonly components: {
    readonly schemas: Readonly<Record<string, { readonly properties: object; readonly required?: readonly string[] }>>;
    readonly responses: Readonly<Record<string, Described>>;
  };
}

export interface Answered {
  readonly method: string;
  /** Below the base. */
  readonly path: string;
  readonly status: number;
  readonly type: string | null;
  readonly body: unknown;
}

/** The answers that were compared with their description, so that a test can say that there were some of each. */
export const comparedAnswers = new Set<string>();

/** What is wrong with an answer by what a service says of itself: nothing, where it is as described. */
export class Description {
  readonly document: Document;
  readonly #ajv: Ajv2020;
  readonly #compiled = new Map<object, ValidateFunction>();

  constructor(document: Document) {
    this.document = document;
    this.#ajv = new Ajv2020({ strict: false, allErrors: true });
    (addFormats as unknown as (ajv: Ajv2020) => void)(this.#ajv);
    this.#ajv.addSchema(document, "described");
  }

  /** Undefined for a path that is not described to this person: whatever is there, it does not exist for them. */
  problemWith({ method, path, status, type, body }: Answered): string | undefined {
    const template = Object.keys(this.document.paths).find((one) => fits(one, path));
    const operation = template === undefined ? undefined : this.document.paths[template]?.[method.toLowerCase()];
    if (operation === undefined) return undefined;
    const given = operation.responses[String(status)];
    if (given === undefined) return `${method} ${template} is answered by ${status}, which is not described`;
    const described = resolved(this.document, given);
    if (described.content === undefined)
      return body === undefined ? undefined : "there is a body that is not described";
    const kind = (type ?? "").split(";")[0] ?? "";
    const schema = described.content[kind]?.schema ?? problemOf(this.document, kind);
    if (schema === undefined) return `${method} ${template} ${status} comes as ${kind}`;
    comparedAnswers.add(`${method} /${template?.split("/")[1]} ${status}`);
    const validate = this.#compiled.get(schema) ?? this.#ajv.compile(rooted(schema));
    this.#compiled.set(schema, validate);
    if (kind === "text/csv" || validate(body)) return undefined;
    return `${method} ${template} ${status}: ${this.#ajv.errorsText(validate.errors)} in ${JSON.stringify(body).slice(0, 300)}`;
  }
}

/** A problem may be any of those that share a status with another answer. */
function problemOf({ components }: Document, kind: string): object | undefined {
  return kind === "application/problem+json" ? (components.schemas["Problem"] as object) : undefined;
}

function resolved({ components }: Document, described: Described): Described {
  const name = described.$ref?.split("/").at(-1);
  return name === undefined ? described : (components.responses[name] as Described);
}

function rooted(schema: object): object {
  return JSON.parse(JSON.stringify(schema).replaceAll('"#/components', '"described#/components')) as object;
}

function fits(template: string, path: string): boolean {
  const [wanted, given] = [template.split("/"), path.split("/")];
  return wanted.length === given.length && wanted.every((part, index) => part.startsWith("{") || part === given[index]);
}
