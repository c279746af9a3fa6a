import { elementsOf, heldBy, isSameAttribute, partIn, partOf, sameName } from "./attribute.js";
import { definedBy, type Filter, meetsFilter } from "./filter.js";
import { isMeant, withAttribute, withHeld } from "./mapping.js";
import { type Path, readPath } from "./path.js";
import { attributeOf, isComplex, type Resource, ScimError, urns } from "./resources.js";

/** An attribute that is kept: what a PATCH may change. */
export interface Target {
  readonly path: Path;
  readonly isMulti: boolean;
  /** Whether any value is kept as it is, objects with any parts included. */
  readonly isWhole?: boolean;
}

type Op = "add" | "replace" | "remove";

/** How many elements the filters of one PATCH look at, all in all. */
const mostLooks = 200_000;
const readOnly = ["id", "groups", "meta", "schemas"];

/**
 * A resource after a PATCH (RFC 7644, 3.5.2): all operations are done, or none. Its cost grows with the operations and the
 * elements that there are, not with their product.
 *
 * @throws ScimError, with the number of the operation: for what is not an operation, for a path that is none or whose attribute is
 * not kept here, and where a value was given of which nothing would be kept.
 */
export function patched(resource: Resource, body: Resource, targets: readonly Target[], most: number): Resource {
  const operations = attributeOf(body, "Operations");
  if (!Array.isArray(operations) || operations.length === 0) {
    throw new ScimError(400, "PATCH needs Operations", "invalidSyntax");
  }
  if (operations.length > most) throw new ScimError(413, `a PATCH has ${most} operations at most`);
  const draft = new Draft(resource, targets);
  for (const [index, operation] of operations.entries()) {
    try {
      for (const change of changesOf(operation, targets)) draft.apply(change);
    } catch (error) {
      if (!(error instanceof ScimError)) throw error;
      throw new ScimError(error.status, `Operations[${index}]: ${error.message}`, error.scimType);
    }
  }
  return draft.result();
}

interface Change {
  readonly op: Op;
  readonly path: Path;
  readonly value: unknown;
}

/** What an operation comes down to: one attribute each. */
function changesOf(operation: unknown, targets: readonly Target[]): readonly Change[] {
  const op = String(attributeOf(operation, "op")).toLowerCase();
  if (op !== "add" && op !== "replace" && op !== "remove") {
    throw new ScimError(400, `there is no operation "${op}"; there are add, replace and remove`, "invalidSyntax");
  }
  const path = attributeOf(operation, "path");
  const value = attributeOf(operation, "value");
  if (path !== undefined && path !== null && typeof path !== "string") {
    throw new ScimError(400, "a path is a text", "invalidPath");
  }
  if (!path) {
    if (op === "remove") throw new ScimError(400, "remove needs a path", "noTarget");
    return attributesIn(op, value, "", targets);
  }
  const schema = schemaOf(path, targets);
  if (schema === undefined) {
    if (op !== "remove" && value === undefined) throw new ScimError(400, `${op} needs a value`, "invalidValue");
    return [{ op, path: readPath(path), value }];
  }
  if (op !== "remove") return attributesIn(op, value, `${schema}:`, targets);
  return targets
    .filter((target) => sameName(target.path.extension, schema))
    .map(({ path: { extension, name } }) => ({
      op,
      path: { extension, name, part: undefined, filter: undefined },
      value: undefined,
    }));
}

/** The attributes of an object that is given in place of a path, those of a schema inside of it included. */
function attributesIn(op: Op, value: unknown, prefix: string, targets: readonly Target[]): readonly Change[] {
  if (!isComplex(value)) {
    throw new ScimError(
      400,
      `${op} ${prefix === "" ? "without a path" : "of a schema"} needs attributes`,
      "invalidValue",
    );
  }
  return Object.entries(value).flatMap(([name, one]): readonly Change[] => {
    const schema = prefix === "" ? schemaOf(name, targets) : undefined;
    if (schema !== undefined) return attributesIn(op, one, `${schema}:`, targets);
    // What a resource says of itself comes along with what is to be changed.
    if (prefix === "" && ["schemas", "meta"].includes(name.toLowerCase())) return [];
    return [{ op, path: readPath(prefix + name), value: one }];
  });
}

/** The schema whose URN a text is, and nothing more. */
function schemaOf(text: string, targets: readonly Target[]): string | undefined {
  const extensions = targets.flatMap(({ path }) => path.extension ?? []);
  return [...extensions, ...Object.values(urns)].find((urn) => sameName(urn, text));
}

/** A resource that is being changed. Lists are held by what their elements are, so that one is found without a search. */
class Draft {
  #resource: Resource;
  readonly #targets: readonly Target[];
  readonly #lists = new Map<Target, Map<string, unknown>>();
  #looks = 0;

  constructor(resource: Resource, targets: readonly Target[]) {
    this.#resource = resource;
    this.#targets = targets;
  }

  result(): Resource {
    for (const [{ path }, list] of this.#lists) this.#resource = withHeld(this.#resource, path, [...list.values()]);
    return this.#resource;
  }

  apply(change: Change): void {
    const { path, op } = change;
    const target = this.#targets.find((one) => isSameAttribute(one.path, path));
    if (target === undefined) {
      this.#onlyTheSame(change);
      return;
    }
    const isKept = target.isMulti ? this.#changeList(target, change) : this.#changeOne(change);
    if (op !== "remove" && change.value !== null && !isKept) {
      const what = path.part === undefined && path.filter === undefined ? "invalidValue" : "invalidPath";
      throw new ScimError(400, `nothing of what is given for ${sayPath(path)} is kept here`, what);
    }
  }

  /** What cannot be changed may be said again as it is. */
  #onlyTheSame({ op, path, value }: Change): void {
    if (path.extension === undefined && readOnly.includes(path.name.toLowerCase())) {
      const isSame = op !== "remove" && path.part === undefined && heldBy(this.#resource, path) === value;
      if (isSame) return;
      throw new ScimError(400, `"${path.name}" cannot be changed`, "mutability");
    }
    const known = [
      ...new Set(this.#targets.map((one) => sayPath({ ...one.path, part: undefined, filter: undefined }))),
    ];
    throw new ScimError(400, `${sayPath(path)} is not kept here; there are ${known.join(", ")}`, "invalidPath");
  }

  /** Changes an attribute that is not a list; tells whether something that was given is kept. */
  #changeOne({ op, path, value }: Change): boolean {
    if (path.filter !== undefined) throw new ScimError(400, `"${path.name}" is not a list`, "invalidPath");
    const old = heldBy(this.#resource, path);
    const isGone = op === "remove" || value === null;
    const inner = isComplex(old) ? old : {};
    let next: unknown;
    if (path.part !== undefined) next = withAttribute(inner, path.part, isGone ? undefined : value);
    else if (!isGone) next = isComplex(value) && isComplex(old) ? merged(inner, value) : value;
    this.#resource = withHeld(this.#resource, path, next);
    const given = path.part === undefined ? elementsOf(value) : [{ [path.part]: value }];
    return given.length === 0 || given.some((element) => this.#isKept(path, element, 1));
  }

  /** Changes a list; tells whether something that was given is kept. */
  #changeList(target: Target, { op, path, value }: Change): boolean {
    const list = this.#listOf(target);
    const keyOf = (element: unknown) => keyIn(target, element);
    const put = (element: unknown) => void list.set(keyOf(element), element);
    const isGone = op === "remove" || value === null;
    if (path.filter === undefined && path.part === undefined) {
      if (op === "remove" && value !== undefined && value !== null) {
        // Some take elements away by naming them beside the path.
        for (const element of elementsOf(value)) this.#takeOut(target, list, element);
        return true;
      }
      if (op !== "add") list.clear();
      if (isGone) return true;
      const given = elementsOf(value).map(asElement);
      for (const element of given) {
        const old = list.get(keyOf(element));
        put(isComplex(old) && isComplex(element) ? merged(old, element) : element);
      }
      return given.length === 0 || given.some((element) => this.#isKept(path, element, list.size));
    }
    const found = this.#elements(target, list, path.filter);
    if (found.length === 0) {
      if (isGone) return true;
      const defined = path.filter === undefined ? {} : definedBy(path.filter);
      if (op === "replace" || defined === undefined)
        throw new ScimError(400, `${sayPath(path)} leads nowhere`, "noTarget");
      const made = changedElement(defined, path, value);
      put(made);
      return this.#isKept(path, made, list.size);
    }
    for (const [key, element] of found) {
      if (isGone && (path.part === undefined || sameName(path.part, "value"))) list.delete(key);
      else {
        const next = changedElement(
          isComplex(element) ? element : { value: element },
          path,
          isGone ? undefined : value,
        );
        if (keyOf(next) !== key) list.delete(key);
        put(next);
      }
    }
    return (
      isGone ||
      found.some(([, element]) => this.#isKept(path, changedElement(asComplex(element), path, value), list.size))
    );
  }

  /** Takes an element out of a list: the same one, or where it says no type, any with its value. */
  #takeOut(target: Target, list: Map<string, unknown>, element: unknown): void {
    const isWhole = isMember(target) || partIn(element, "type") !== undefined;
    if (list.delete(keyIn(target, element)) || isWhole) return;
    this.#look(list.size);
    for (const [other, one] of list) if (partIn(one, "value") === partIn(element, "value")) list.delete(other);
  }

  #look(count: number): void {
    this.#looks += count;
    if (this.#looks > mostLooks) throw new ScimError(413, "this PATCH looks at too many elements");
  }

  #listOf(target: Target): Map<string, unknown> {
    const key = this.#targets.find((one) => isSameAttribute(one.path, target.path)) ?? target;
    const known = this.#lists.get(key);
    if (known !== undefined) return known;
    const elements = elementsOf(heldBy(this.#resource, target.path)).map(asElement);
    const made = new Map(elements.map((element) => [keyIn(target, element), element]));
    this.#lists.set(key, made);
    return made;
  }

  /** The elements that a filter means. One that names an element by its value is answered without a search. */
  #elements(
    target: Target,
    list: ReadonlyMap<string, unknown>,
    filter: Filter | undefined,
  ): readonly (readonly [string, unknown])[] {
    if (filter === undefined) return [...list];
    const defined = definedBy(filter);
    const isByValue =
      defined !== undefined && isMember(target) && Object.keys(defined).join().toLowerCase() === "value";
    if (isByValue) {
      const key = keyIn(target, defined);
      return list.has(key) ? [[key, list.get(key)]] : [];
    }
    this.#look(list.size);
    return [...list].filter(([, element]) => meetsFilter(filter, element));
  }

  /** Whether an attribute is kept of what an element says. */
  #isKept(path: Path, element: unknown, count: number): boolean {
    const parts = isComplex(element) ? Object.keys(element) : ["value"];
    return this.#targets.some(
      (target) =>
        isSameAttribute(target.path, path) &&
        isMeant(target.path.filter, element, count) &&
        (target.isWhole === true || parts.some((part) => sameName(part, partOf(target.path)))),
    );
  }
}

function asElement(element: unknown): unknown {
  return isComplex(element) ? element : { value: element };
}

function asComplex(element: unknown): Resource {
  return asElement(element) as Resource;
}

/** An element with a part set, or with what an object says, or with a plain value. */
function changedElement(element: Resource, { part }: Path, value: unknown): Resource {
  if (part !== undefined) return withAttribute(element, part, value);
  return isComplex(value) ? merged(element, value) : withAttribute(element, "value", value);
}

function merged(old: Resource, more: Resource): Resource {
  return Object.entries(more).reduce((all, [name, value]) => withAttribute(all, name, value ?? undefined), old);
}

function isMember({ path }: Target): boolean {
  return sameName(path.name, "members");
}

/** What makes an element the same as another: a member is who it is, anything else its value and its type. */
function keyIn(target: Target, element: unknown): string {
  const value = partIn(element, "value");
  return JSON.stringify(isMember(target) ? String(value) : [value, partIn(element, "type")]);
}

function sayPath({ extension, name, filter, part }: Path): string {
  const owner = extension === undefined ? "" : `${extension}:`;
  return `"${owner}${name}${filter === undefined ? "" : "[...]"}${part === undefined ? "" : `.${part}`}"`;
}
