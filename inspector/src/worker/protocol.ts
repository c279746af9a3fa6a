import type { ActionName, Problem, Reach } from "portier";
import type { NewRange } from "portier/ranges";
import type { CellView, ExplanationWords, Proposal, RuleCopy, RuleDifference } from "portier/tooling";
import type { ExpectationResult, SharedDifference } from "portier/verify";

/** A file as the server gives it. */
export interface OpenedFile {
  readonly name: string;
  readonly text: string;
  readonly version: string;
}

/** What the server gives: the document, the records, the expectations. */
export interface ProjectState {
  readonly document: OpenedFile;
  readonly expectations: readonly OpenedFile[];
  readonly data:
    | { readonly kind: "files"; readonly files: readonly { table: string; file: string; text: string }[] }
    | { readonly kind: "records"; readonly tables: Readonly<Record<string, readonly Record<string, unknown>[]>> }
    | { readonly kind: "none" };
  readonly at?: string;
  readonly request: Readonly<Record<string, string>>;
}

/** An error or a warning, with its place in the text. */
export interface Remark extends Pick<Problem, "code" | "message" | "hint" | "line" | "column"> {
  readonly kind: "error" | "warning";
}

/** Somebody whose eyes one can look through. */
export interface Eye {
  readonly id: string;
  readonly name: string;
  readonly roles: readonly string[];
}

export interface TableShape {
  readonly name: string;
  readonly label: string;
  readonly count: number;
  readonly actions: readonly ActionName[];
  readonly fields: readonly {
    readonly name: string;
    readonly label: string;
    readonly type: string;
    readonly sensitive: boolean;
    readonly column: string | undefined;
  }[];
  /** The names of its rules. */
  readonly rules: readonly { readonly address: string; readonly cells: boolean }[];
}

/** What there is to look at under the rules as they are written now. */
export interface Overview {
  readonly tables: readonly TableShape[];
  readonly eyes: readonly Eye[];
  readonly roles: readonly string[];
  readonly groups: readonly string[];
  /** What keeps records from being shown, where something does. */
  readonly trouble: string | undefined;
}

/** What became of a text: where it does not compile, everything is still shown under the last that did. */
export interface Draft {
  readonly overview: Overview | undefined;
  readonly remarks: readonly Remark[];
  readonly compiles: boolean;
}

export interface ViewQuestion {
  readonly table: string;
  /** The ids of one or two eyes. */
  readonly eyes: readonly string[];
  /** Records that exist for any of them, or all there are. */
  readonly show: "seen" | "all" | "differing";
  /** A text that some stored value contains. */
  readonly search: string;
  readonly first: number;
  readonly count: number;
}

export interface SeenRecord {
  readonly key: string;
  /** For each eye its cells; null where the record does not exist for them. */
  readonly views: readonly (readonly CellView[] | null)[];
}

export interface Seen {
  /** How many records there are to scroll through. */
  readonly total: number;
  /** How many records exist for each eye, of all that are stored. */
  readonly exist: readonly number[];
  readonly stored: number;
  readonly first: number;
  readonly records: readonly SeenRecord[];
}

export interface WhyQuestion {
  readonly eye: string;
  readonly table: string;
  /** Undefined: about the table as a whole. */
  readonly key: string | undefined;
  readonly field: string | undefined;
  readonly action: ActionName;
}

export interface MatrixLine {
  /** Those for whom all of the line is equal. */
  readonly who: readonly { readonly id: string; readonly name: string }[];
  readonly roles: readonly string[];
  readonly cells: readonly MatrixAnswer[];
}

export interface MatrixAnswer {
  readonly table: string;
  readonly action: ActionName;
  readonly reach: Reach;
  readonly count: number | undefined;
}

/** Who gains and loses what by the draft, against the file as it is saved. */
export interface Differences {
  readonly people: readonly SharedDifference[];
  readonly rules: readonly RuleDifference[];
}

export interface Tested {
  readonly results: readonly TestedLine[];
  /** Files that cannot be read. */
  readonly problems: readonly string[];
}

/** One thing that was expected, and what was found, with its place in a file. */
export interface TestedLine extends Omit<ExpectationResult, "path"> {
  readonly file: string;
  readonly line: number | undefined;
}

/** A rule, and what of it no expectation has covered. */
export interface CoveredRule {
  readonly rule: string;
  readonly open: readonly string[];
  readonly line: number | undefined;
}

type TestFiles = readonly Pick<OpenedFile, "name" | "text">[];

export type { Proposal };

export interface Memberships {
  /** The roles and groups as an SVG; undefined where there are none. */
  readonly picture: string | undefined;
  readonly names: readonly MembershipLine[];
  /** The manager lines: whoever is nobody's inferior first, each with those below. */
  readonly line: readonly LineOf[];
}

export interface MembershipLine {
  readonly name: string;
  readonly kind: "role" | "group";
  readonly note: string | undefined;
  readonly facts: readonly string[];
  /** What its rules come to, in sentences. */
  readonly sentences: readonly string[];
  readonly members: readonly { readonly id: string; readonly name: string; readonly ways: readonly string[] }[];
}

export interface LineOf {
  readonly id: string;
  readonly name: string;
  readonly below: readonly LineOf[];
}

/** A part of the rules that is copied, or a range that is added, to the text as it is written now. */
export type Addition =
  | { readonly kind: "rule"; readonly address: string; readonly copy: RuleCopy }
  | { readonly kind: "role"; readonly role: string; readonly name: string }
  | { readonly kind: "range"; readonly table: string; readonly range: NewRange };

/**
 * Everything that the pages ask. It runs in a worker: nothing here waits for the page, and the page waits for nothing.
 * What throws comes back as an error with its message.
 */
export interface InspectorApi {
  /** Takes a project; what was there before is forgotten. */
  open(project: ProjectState): Draft;
  /** Takes another text for the document, without saving it. */
  draft(text: string): Draft;
  /** The draft was saved: from now on it is what drafts are compared with. */
  saved(): void;
  /** The warnings of the draft. */
  warnings(): readonly Remark[];
  see(question: ViewQuestion): Seen;
  why(question: WhyQuestion): ExplanationWords;
  matrix(of: "people" | "roles" | "groups"): readonly MatrixLine[];
  differences(): Differences;
  memberships(): Memberships;
  test(files: TestFiles): Tested;
  coverage(files: TestFiles): readonly CoveredRule[];
  /** What holds now for somebody, of one record or of a table as a whole, as an expectation. */
  propose(question: Omit<WhyQuestion, "action" | "field">): Proposal;
  /** The text of a file of expectations with one more. */
  withExpectation(text: string, proposal: Proposal): string;
  /** The draft with a part more. */
  add(addition: Addition): string;
}
