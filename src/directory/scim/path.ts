import { type Attribute, readAttribute } from "./attribute.js";
import { type Filter, readFilter } from "./filter.js";
import { ScimError } from "./resources.js";

/** Where something is in a resource (RFC 7644, 3.5.2): `active`, `name.givenName`, `emails[type eq "work"].value`. */
export interface Path extends Attribute {
  /** Of a list, the elements that are meant. */
  readonly filter: Filter | undefined;
}

const filtered = /^([^[]+)\[(.*)\](?:\.([A-Za-z$][\w$-]*))?$/s;

/**
 * Reads a path.
 *
 * @throws ScimError (400, `invalidPath`) for what is none.
 */
export function readPath(text: string): Path {
  const found = filtered.exec(text.trim());
  if (found === null) return { ...readAttribute(text.trim(), "invalidPath"), filter: undefined };
  const [, name = "", filter = "", part] = found;
  const attribute = readAttribute(name, "invalidPath");
  if (attribute.part !== undefined) throw new ScimError(400, `"${text}" filters a part`, "invalidPath");
  return { ...attribute, part, filter: readFilter(filter, "invalidPath") };
}
