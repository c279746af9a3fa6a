import type { Row } from "../conditions/source.js";
import { isMapping } from "../schema/reader.js";
import { HttpProblem } from "./problem.js";
import { readText } from "./read-text.js";

/** Reads a JSON object, with no more of it than is allowed. */
export async function readBody(request: Request, most: number): Promise<Row> {
  const type = request.headers.get("content-type") ?? "";
  if (!/^application\/(?:[\w.+-]+\+)?json\s*(?:;|$)/i.test(type)) {
    throw new HttpProblem("wrong-type", 'Send it as "content-type: application/json".');
  }
  const read = await readText(request, most);
  if (read === "too-large") throw new HttpProblem("too-large", `A body has ${most} bytes at most.`);
  if (read === "not-utf-8") throw new HttpProblem("bad-request", "The body is not UTF-8.");
  let value: unknown;
  try {
    value = JSON.parse(read.text);
  } catch (error) {
    throw new HttpProblem("bad-request", `The body is not JSON: ${(error as Error).message}`);
  }
  if (isMapping(value)) return value;
  throw new HttpProblem("bad-request", "The body must be an object.");
}

const changeKeys = ["values", "mode", "confirmed"] as const;

/** What a change is sent as: `{ values, mode, confirmed }`. */
export interface ChangeBody {
  readonly values: Row;
  readonly options: { readonly mode?: "strict" | "lenient"; readonly confirmed?: readonly string[] };
}

/** Checks the shape of a change; what is in `values` is for the rules to judge. */
export function readChange(body: Row, more: readonly string[] = []): ChangeBody {
  const known: readonly string[] = [...changeKeys, ...more];
  for (const key of Object.keys(body)) {
    if (!known.includes(key)) {
      throw new HttpProblem("bad-request", `A change has no "${key}"; it has ${known.join(", ")}.`);
    }
  }
  const { values = {}, mode, confirmed } = body;
  if (!isMapping(values)) throw new HttpProblem("bad-request", '"values" must be an object.');
  if (mode !== undefined && mode !== "strict" && mode !== "lenient") {
    throw new HttpProblem("bad-request", '"mode" must be "strict" or "lenient".');
  }
  if (confirmed !== undefined && !isTexts(confirmed)) {
    throw new HttpProblem("bad-request", '"confirmed" must be a list of the rules that were to be confirmed.');
  }
  return {
    values,
    options: { ...(mode === undefined ? {} : { mode }), ...(confirmed === undefined ? {} : { confirmed }) },
  };
}

export function isTexts(value: unknown): value is readonly string[] {
  return Array.isArray(value) && value.every((one) => typeof one === "string");
}
