import { portierError } from "../schema/problems.js";

/** A piece of a statement: text that this package wrote, with values kept apart from it. */
export type Fragment = readonly Piece[];

/** A part of a statement: text, or a parameter. */
export type PlainPiece = string | Param;

/** `isShared`: one place of a test that stands in a statement more than once; the text around it is always the same. */
export interface Param {
  readonly param: unknown;
  readonly isShared?: true;
}

/** What a statement for anybody finds out about the current user: a column of the subject, see row-security/. */
export interface Fact {
  readonly fact: string;
  /** Whether it is true of them, or a value, or a list of values. */
  readonly kind: "truth" | "value" | "list";
  /** Whether the list has this text is asked, in place of the list itself. */
  readonly has?: string;
}

/** A part of a statement. */
export type Piece = PlainPiece | Fact;

/** A statement's text with placeholders, and the values for them in order. */
export interface Statement {
  /** With the dialect's placeholders. */
  readonly text: string;
  /** One for each placeholder, in their order. */
  readonly params: readonly unknown[];
}

/** A fragment from a template: ``sql`${left} = ${right}` ``. Only fragments go in, so no value can become text. */
export function sql(text: TemplateStringsArray, ...parts: readonly Fragment[]): Fragment {
  // Statements are made for every request: what is made here is made without lists in between.
  const all: Piece[] = [];
  for (let i = 0; i < text.length; i++) {
    const piece = text[i] as string;
    if (piece !== "") all.push(piece);
    const part = parts[i];
    if (part !== undefined) for (const one of part) all.push(one);
  }
  return all;
}

/** A value, for which a placeholder stands in the text. */
export function param(value: unknown): Fragment {
  return [{ param: value }];
}

/** Text that was made here, such as a quoted name or a number. */
export function raw(text: string): Fragment {
  return [text];
}

export function join(fragments: readonly Fragment[], separator: string): Fragment {
  const all: Piece[] = [];
  for (const [index, fragment] of fragments.entries()) {
    if (index > 0) all.push(separator);
    for (const one of fragment) all.push(one);
  }
  return all;
}

/** Both, each, or none: `false` and `true` are the empty ones. */
export function allOf(terms: readonly Fragment[]): Fragment {
  return chain(terms, " and ", "true");
}

export function anyOf(terms: readonly Fragment[]): Fragment {
  return chain(terms, " or ", "false");
}

/** SQLite reads "a or b or c" as deep as it is long, and takes no more than 1,000 deep: what is longer is put in brackets. */
const longest = 200;

function chain(terms: readonly Fragment[], separator: string, none: string): Fragment {
  const [first] = terms;
  if (first === undefined) return raw(none);
  if (terms.length > longest) {
    const size = Math.ceil(terms.length / longest);
    const parts: Fragment[] = [];
    for (let from = 0; from < terms.length; from += size)
      parts.push(chain(terms.slice(from, from + size), separator, none));
    return chain(parts, separator, none);
  }
  return terms.length === 1 ? first : sql`(${join(terms, separator)})`;
}

/** The pieces of a fragment that is for one person. */
export function plainPieces(fragment: Fragment): readonly PlainPiece[] {
  return fragment.map((piece) => (typeof piece === "string" ? piece : plain(piece)));
}

function plain(piece: Param | Fact): Param {
  if ("param" in piece) return piece;
  throw new TypeError("this condition is for anybody: it goes into views alone");
}

/** The same for a test that is written more than once, see {@link finish}. */
export function shared(fragment: Fragment): Fragment {
  return fragment.map((piece) =>
    typeof piece === "object" && "param" in piece ? { ...piece, isShared: true } : piece,
  );
}

/**
 * Writes a fragment out. `first` is the position of its first placeholder, 1-based. Where placeholders have numbers, a
 * {@link shared} value is handed over once. Others are not, though they be the same: PostgreSQL gives a parameter one type,
 * and takes it from what it is first compared with.
 */
export function finish(fragment: Fragment, placeholder: (position: number) => string, first = 1): Statement {
  if (!Number.isInteger(first) || first < 1) {
    throw portierError("bad-value", { field: "first", expects: "a whole number from 1 on", found: first });
  }
  const isNumbered = placeholder(1) !== placeholder(2);
  const params: unknown[] = [];
  const places = new Map<Param, string>();
  const placeOf = (value: Param) => {
    const known = isNumbered && value.isShared ? places.get(value) : undefined;
    if (known !== undefined) return known;
    const place = placeholder(first + params.length);
    params.push(value.param);
    places.set(value, place);
    return place;
  };
  let text = "";
  for (const piece of fragment) text += typeof piece === "string" ? piece : placeOf(plain(piece));
  return { text, params };
}
