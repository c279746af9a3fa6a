import type { assignmentMessages } from "./assignment-messages.js";
import type { callMessages } from "./call-messages.js";
import type { messages } from "./messages.js";
import type { WarningCode } from "./warning-messages.js";

/** Where in a document: the keys and indexes from its root. */
export type Path = readonly (string | number)[];

/** The stable codes of {@link Problem}. */
export type ProblemCode = MistakeCode | WarningCode;

/** What is wrong, and not only doubted. */
export type MistakeCode = keyof Messages;

type Messages = typeof messages & typeof assignmentMessages;

/** The facts that a code's sentence is made from. */
export type Facts<C extends MistakeCode> = Parameters<Messages[C]>[0];

/** One thing that is wrong, with its place. */
export interface Problem {
  readonly code: ProblemCode;
  /** A sentence without capital and full stop: `table "objects" has no field "titel"`. */
  readonly message: string;
  /** The next step: `did you mean "title"?` */
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

/** The sentences load apart: a bundle of functions leaves them out, unless it takes them in by `portier/messages`. */
export function sayBy(loaded: Sentences): void {
  sentences = loaded;
}

/** A {@link PortierError} for a call. Where the sentences are left out, its message is the names and values of the facts. */
export function portierError<C extends CallCode>(code: C, facts: Facts<C>, path: Path = []): PortierError {
  const say = sentences?.[code] as ((facts: Facts<C>) => readonly [message: string, hint?: string]) | undefined;
  const [message, hint] = say?.(facts) ?? [Object.values(facts).filter(isName).join(", ")];
  return new PortierError([{ code, message, ...(hint === undefined ? {} : { hint }), path }]);
}

/** `museum.portier.yaml:41:17  unknown-field  table "objects" has no field "titel"; did you mean "title"?` */
export function formatProblem(one: Problem): string {
  const place =
    one.line === undefined
      ? [one.file, formatPath(one.path)].filter(Boolean).join(" ")
      : `${one.file ?? "document"}:${one.line}:${one.column ?? 1}`;
  const text = one.hint === undefined ? one.message : `${one.message}; ${one.hint}`;
  return [place, one.code, text].filter((part) => part !== "").join("  ");
}

function isName(fact: unknown): fact is string {
  return typeof fact === "string";
}

function formatPath(path: Path): string {
  return path.map((step) => (typeof step === "number" ? `[${step}]` : step)).join(".");
}
