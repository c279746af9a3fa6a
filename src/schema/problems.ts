import type { assignmentMessages } from "./assignment-messages.js";
import type { callMessages } from "./call-messages.js";
import type { messages } from "./messages.js";
import type { WarningCode } from "./warning-messages.js";

/** Where in a document: the keys and indexes from its root. */
export type Path = readonly (string | number)[];

/** The stable codes of {@link Problem}. */
export type ProblemCode = ErrorCode | WarningCode;

/** The codes of errors. */
export type ErrorCode = keyof Messages;

type Messages = typeof messages & typeof assignmentMessages;

/** The facts that a code's message is made from. */
export type Facts<C extends ErrorCode> = Parameters<Messages[C]>[0];

/** One thing that is wrong, with its place. */
export interface Problem {
  readonly code: ProblemCode;
  /** What is wrong: `Table "objects" has no field "titel".` */
  readonly message: string;
  /** What to do: `Did you mean "title"?` */
  readonly hint?: string;
  /** Keys and indexes from the document's root, e.g. `["tables", "objects", "key"]`. */
  readonly path: Path;
  /** Offset into the text at `path`, for a mistake inside a condition (UTF-16 units, 0-based). */
  readonly offset?: number;
  readonly file?: string;
  /** 1-based. */
  readonly line?: number;
  /** 1-based, in UTF-16 units. */
  readonly column?: number;
}

/** Finds the place of a path (and an offset in the text there) in the file that a document was read from. */
export type Locate = (path: Path, offset?: number) => { file?: string; line?: number; column?: number };

/**
 * The one error class of Portier. `problems` lists everything that was found, `code` is the first problem's.
 * A decision never throws it for what a person may not do; it is thrown for documents, data and calls that are wrong.
 */
export class PortierError extends Error {
  override readonly name = "PortierError";
  readonly code: ProblemCode;
  /** All that is wrong, at least one; `message` has them as text. */
  readonly problems: readonly Problem[];

  constructor(problems: readonly Problem[]) {
    super(problems.map(formatProblem).join("\n"));
    this.problems = problems;
    this.code = problems[0]?.code ?? "fault";
  }
}

/** What a call can be wrong in. */
export type CallCode = keyof typeof callMessages;

type Sentences = typeof callMessages;

let sentences: Sentences | undefined;

/** The messages load apart: a bundle of functions leaves them out, unless it imports `portier/messages`. */
export function sayBy(loaded: Sentences): void {
  sentences = loaded;
}

/** A {@link PortierError} for a call. Where the messages are left out, it has the names and values of the facts instead. */
export function portierError<C extends CallCode>(code: C, facts: Facts<C>, path: Path = []): PortierError {
  const say = sentences?.[code] as ((facts: Facts<C>) => readonly [message: string, hint?: string]) | undefined;
  const [message, hint] = say?.(facts) ?? [Object.values(facts).filter(isName).join(", ")];
  const told = hint === undefined ? {} : { hint: sentence(hint) };
  return new PortierError([{ code, message: say === undefined ? message : sentence(message), ...told, path }]);
}

/** A capital where the text begins with a plain word (a file, a key or a name stays as it is), and a full stop. */
export function sentence(text: string): string {
  const begun = /^[a-z]+,?(?= |$)/.test(text) ? `${text.charAt(0).toUpperCase()}${text.slice(1)}` : text;
  return /[.?!:]$/.test(begun) ? begun : `${begun}.`;
}

/** What is wrong and what to do, as one text: `Table "objects" has no field "titel". Did you mean "title"?` */
export function problemText({ message, hint }: Pick<Problem, "message" | "hint">): string {
  return hint === undefined ? message : `${message} ${hint}`;
}

/** `museum.portier.yaml:41:17  unknown-field  Table "objects" has no field "titel". Did you mean "title"?` */
export function formatProblem(one: Problem): string {
  const place =
    one.line === undefined
      ? [one.file, formatPath(one.path)].filter(Boolean).join(" ")
      : `${one.file ?? "document"}:${one.line}:${one.column ?? 1}`;
  return [place, one.code, problemText(one)].filter((part) => part !== "").join("  ");
}

function isName(fact: unknown): fact is string {
  return typeof fact === "string";
}

function formatPath(path: Path): string {
  return path.map((step) => (typeof step === "number" ? `[${step}]` : step)).join(".");
}
