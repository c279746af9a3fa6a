import {
  AliasNode,
  type IdentifierNode,
  type OperationNode,
  ParensNode,
  RawNode,
  type SchemableIdentifierNode,
  type TableNode,
  ValueNode,
} from "kysely";
import type { ShowAction } from "../rules/action-tree.js";
import { portierError } from "../schema/problems.js";
import { internals } from "../session/internals.js";
import type { AnySession } from "../session/open-session.js";
import type { Dialect } from "../sql/dialect.js";
import { type Fragment, plainPieces } from "../sql/fragment.js";
import { maskedFragment } from "../sql/masked-select.js";
import { tableName } from "../sql/where.js";
import { canFail } from "./kysely-failing.js";

/** How selects of Kysely are masked. */
export interface KyselyOptions {
  /** What the records are shown for. Default: `list`. */
  readonly action?: ShowAction;
  /**
   * Keeps filters off the records that are not seen, as for `maskedSelect`. Default: where a statement holds something that
   * can fail on some value (a cast, arithmetic, most functions, a pattern that ends in an escape), so that its failure
   * tells nothing; other statements are left to the database's indexes.
   */
  readonly fence?: boolean;
  /** Names of functions that may be called besides the usual ones, in lower case: they must read no table. */
  readonly functions?: readonly string[];
}

/** What a select is made of. Any other kind of node, one that a later Kysely adds among them, is refused. */
const selectKinds: ReadonlySet<string> = new Set(
  `AggregateFunctionNode AliasNode AndNode BinaryOperationNode CaseNode CastNode CollateNode ColumnNode
   CommonTableExpressionNameNode CommonTableExpressionNode DataTypeNode FetchNode FromNode FunctionNode GroupByItemNode
   GroupByNode HavingNode IdentifierNode JSONOperatorChainNode JSONPathLegNode JSONPathNode JSONReferenceNode JoinNode
   LimitNode ListNode OffsetNode OnNode OperatorNode OrNode OrderByItemNode OrderByNode OverNode ParensNode
   PartitionByItemNode PartitionByNode PrimitiveValueListNode RawNode ReferenceNode SchemableIdentifierNode SelectAllNode
   SelectModifierNode SelectQueryNode SelectionNode SetOperationNode SimpleReferenceExpressionNode TableNode TopNode
   TupleNode UnaryOperationNode UsingNode ValueListNode ValueNode ValuesNode WhenNode WhereNode WithNode`.split(/\s+/),
);

/** Functions that look at their arguments and at nothing else. */
const usualFunctions: ReadonlySet<string> = new Set(
  `abs any array_agg array_length avg bit_and bit_or bool_and bool_or ceil ceiling char_length coalesce concat concat_ws
   count cume_dist date date_trunc dense_rank every exists first_value floor greatest group_concat initcap jsonb_agg
   json_agg json_array_length json_build_object jsonb_build_object json_object json_group_array json_arrayagg lag
   last_value lead least left length lower lpad ltrim max min mod now ntile nullif percent_rank position power rank
   replace reverse right round row_number rpad rtrim sign split_part sqrt string_agg strftime strpos substr substring sum
   to_char to_json total trim trunc unnest upper year month day`.split(/\s+/),
);

const namesTable: ReadonlySet<string> = new Set([
  "ReferenceNode",
  "CommonTableExpressionNameNode",
  "SelectModifierNode",
]);

type Node = OperationNode & Readonly<Record<string, unknown>>;

/** Puts a person's masked selects in the place of the tables that a select reads. */
export class Rewriter {
  readonly #session: AnySession;
  readonly #dialect: Dialect;
  readonly #action: ShowAction;
  readonly #fence: boolean | undefined;
  readonly #functions: ReadonlySet<string>;
  readonly #tables = new Map<string, string>();
  /** Names that a `with` must not give: what rules ask of other records would then be asked of it. */
  readonly #reserved: ReadonlySet<string>;
  /**
   * What each select was before this rewrote it. One that stands in another is rewritten before that one is, and again from
   * what it was with that one: only the whole statement tells whether to fence.
   */
  readonly #originals = new WeakMap<object, Node>();
  #isFenced = false;

  constructor(session: AnySession, dialect: Dialect, options: KyselyOptions) {
    const { action = "list", functions = [], fence } = options;
    this.#fence = fence;
    this.#session = session;
    this.#dialect = dialect;
    this.#action = action;
    this.#functions = new Set([...usualFunctions, ...functions]);
    const tables = [...internals(session).plan.tables];
    for (const { name, source } of tables) this.#tables.set(source, name);
    this.#reserved = new Set([...tables.map(({ source }) => tableName(source)), ...keptNames].map(folded));
  }

  root(node: OperationNode): OperationNode {
    if (node.kind === "SelectQueryNode") {
      const original = this.#original(node as Node);
      this.#isFenced = this.#fence ?? canFail(original, (part) => this.#original(part as Node));
      const rewritten = this.#rewrite(original, new Set());
      this.#originals.set(rewritten, original);
      return rewritten;
    }
    const hint = "for changes make a Kysely over portierDialect, which judges them";
    throw portierError("wrong-call", { what: `a person's view is for selects, not for a ${node.kind}`, hint });
  }

  #original(node: Node): Node {
    return this.#originals.get(node) ?? node;
  }

  /** `named`: the names that a `with` around gives to selects of this statement. */
  #rewrite(built: Node, named: ReadonlySet<string>): Node {
    const node = this.#original(built);
    this.#check(node);
    // What stands for a value is never looked into: it may be an object that looks like a part of a statement.
    if (node.kind === "ValueNode" || node.kind === "PrimitiveValueListNode") return node;
    const within = new Set([...named, ...this.#namesGiven(node)]);
    const changed: Record<string, unknown> = {};
    for (const [property, value] of Object.entries(node)) {
      if (property === "with" && isNode(value)) changed[property] = this.#rewriteWith(value, named);
      else if (isWord(node, property, value)) changed[property] = value;
      else
        changed[property] = this.#isSource(node, property)
          ? eachNode(value, (one) => this.#source(one, within))
          : eachNode(value, (one) => this.#inside(node, one, within));
    }
    return Object.freeze(changed) as unknown as Node;
  }

  /** The names that a `with` gives to selects. */
  #namesGiven(node: Node): string[] {
    return expressionsOf(node["with"]).map(({ name }) => {
      const given = name.table.table.identifier.name;
      if (!this.#reserved.has(folded(given))) return given;
      const what = `a "with" cannot be called "${given}": rules ask the table of that name`;
      throw portierError("wrong-call", { what, hint: "give it another name" });
    });
  }

  /** Each select of a `with` may name those before it; itself and later ones only in a recursive one. */
  #rewriteWith(clause: Node, named: ReadonlySet<string>): Node {
    this.#check(clause);
    const all = expressionsOf(clause);
    const seen = new Set(named);
    if (clause["recursive"] === true) for (const { name } of all) seen.add(name.table.table.identifier.name);
    const expressions = all.map((one) => {
      const rewritten = this.#rewrite(one as unknown as Node, new Set(seen));
      seen.add(one.name.table.table.identifier.name);
      return rewritten;
    });
    return Object.freeze({ ...clause, expressions }) as unknown as Node;
  }

  /** A table that is named elsewhere than to read from it says whose a column is, or what a `with` is called. */
  #inside(parent: Node, node: Node, named: ReadonlySet<string>): Node {
    if (node.kind === "TableNode" && !namesTable.has(parent.kind)) {
      const what = `a person's view cannot read a table in a ${parent.kind}`;
      throw portierError("wrong-call", { what, hint: "use selectFrom and joins" });
    }
    return this.#rewrite(node, named);
  }

  /** Whether what stands in a property is a table to read from, and not one that a column is of. */
  #isSource({ kind }: Node, property: string): boolean {
    return (kind === "FromNode" && property === "froms") || (kind === "JoinNode" && property === "table");
  }

  #source(node: Node, named: ReadonlySet<string>): Node {
    if (node.kind === "TableNode") {
      const { table } = node as unknown as TableNode;
      return this.#masked(table, table.identifier, named) ?? node;
    }
    if (node.kind === "AliasNode") {
      const { node: inner, alias } = node as unknown as AliasNode;
      if (inner.kind === "TableNode" && alias.kind === "IdentifierNode") {
        const { table } = inner as TableNode;
        return this.#masked(table, alias as IdentifierNode, named) ?? node;
      }
    }
    return this.#rewrite(node, named);
  }

  /** The masked select of a declared table; undefined for a name that the statement itself gives. */
  #masked(table: SchemableIdentifierNode, alias: IdentifierNode, named: ReadonlySet<string>): Node | undefined {
    const { name } = table.identifier;
    const source = table.schema === undefined ? name : `${table.schema.name}.${name}`;
    const declared = this.#tables.get(source);
    if (declared === undefined) {
      if (table.schema === undefined && named.has(name)) return undefined;
      const hint = `declared: ${[...this.#tables.keys()].slice(0, 12).join(", ")}; a "with" is named inside of its own statement`;
      throw portierError("wrong-call", { what: `the document declares no table "${source}"`, hint });
    }
    internals(this.#session).parts.stated?.(declared, this.#action);
    const select = maskedFragment(internals(this.#session), declared, this.#action, this.#dialect, {
      nameOf: ({ column }) => column,
      fence: this.#isFenced,
    });
    return AliasNode.create(ParensNode.create(rawNode(select)), alias) as unknown as Node;
  }

  #check(node: Node): void {
    const { kind } = node;
    if (!selectKinds.has(kind)) {
      throw portierError("wrong-call", { what: `a person's view cannot hold a ${kind}`, hint: "use selects only" });
    }
    if (kind === "RawNode") {
      const what = `a text of SQL could read what is hidden: ${JSON.stringify((node as unknown as RawNode).sqlFragments.join("?"))}`;
      throw portierError("wrong-call", { what, hint: "write it with the query builder" });
    }
    if (kind === "FunctionNode" || kind === "AggregateFunctionNode") {
      const name = String(node["func"]);
      if (this.#functions.has(name.toLowerCase())) return;
      const hint = `if it reads no table, name it: { functions: ["${name.toLowerCase()}"] }`;
      throw portierError("wrong-call", { what: `the function "${name}" is not known to read no table`, hint });
    }
  }
}

/** The two places where the builder itself writes words as texts: a direction, and the name of a type. */
function isWord({ kind }: Node, property: string, value: unknown): boolean {
  if (!isNode(value) || value.kind !== "RawNode") return false;
  const { sqlFragments, parameters } = value as unknown as RawNode;
  const text = sqlFragments.join("");
  if (parameters.length > 0) return false;
  if (kind === "OrderByItemNode" && property === "direction") return /^(?:asc|desc)$/i.test(text);
  return kind === "CastNode" && property === "dataType" && /^[a-z]+(?: precision| varying)?$/i.test(text);
}

interface WithExpression {
  readonly name: { readonly table: TableNode };
}

function expressionsOf(clause: unknown): readonly WithExpression[] {
  const { expressions = [] } = (clause ?? {}) as { readonly expressions?: readonly WithExpression[] };
  return expressions;
}

/** Databases fold the case of names, each in its own way. */
function folded(name: string): string {
  return name.toLowerCase();
}

const keptNames = ["portier_assignments", "portier_delegations", "portier_protections"];

/** Rewrites the nodes in a property: one, a list of them, or none at all. */
function eachNode(value: unknown, rewrite: (node: Node) => Node): unknown {
  if (Array.isArray(value)) return value.map((one) => eachNode(one, rewrite));
  return isNode(value) ? rewrite(value) : value;
}

function isNode(value: unknown): value is Node {
  return typeof value === "object" && value !== null && typeof (value as { kind?: unknown }).kind === "string";
}

function rawNode(fragment: Fragment): RawNode {
  const texts = [""];
  const parameters: ValueNode[] = [];
  for (const piece of plainPieces(fragment)) {
    if (typeof piece === "string") texts[texts.length - 1] += piece;
    else {
      parameters.push(ValueNode.create(piece.param));
      texts.push("");
    }
  }
  return RawNode.create(texts, parameters);
}
