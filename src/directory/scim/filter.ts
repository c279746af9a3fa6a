import { type Resource, ScimError, valueAt } from "./resources.js";

const shape = /^\s*([\w.$:-]+)\s+eq\s+("(?:[^"\\]|\\.)*"|true|false)\s*$/i;

/**
 * A filter (RFC 7644, 3.4.2.2) as what tests a resource. Of the filter language, one comparison by `eq` is known, which is
 * what provisioning clients look a user or group up by.
 *
 * @throws ScimError (400, `invalidFilter`) for any other.
 */
export function filterOf(text: string | null): (resource: Resource) => boolean {
  if (text === null) return () => true;
  const found = shape.exec(text);
  if (found === null) {
    throw new ScimError(400, `the filter ${text} is not known here: compare one attribute by eq`, "invalidFilter");
  }
  const [, path = "", literal = ""] = found;
  let wanted: unknown;
  try {
    wanted = JSON.parse(literal.startsWith('"') ? literal : literal.toLowerCase());
  } catch {
    throw new ScimError(400, `${literal} is no value`, "invalidFilter");
  }
  // Names of users and groups are the same in any case (RFC 7643, 4.1.1 and 4.2); keys are not.
  const isName = ["username", "displayname"].includes(path.toLowerCase());
  const folded = (value: unknown) => (isName && typeof value === "string" ? value.toLowerCase() : value);
  return (resource) => folded(valueAt(resource, path)) === folded(wanted);
}
