import type { ActionTree } from "../rules/action-tree.js";
import { anyReach, bothReach, type Reach } from "./reach.js";
import { distinctWays, type TableGates } from "./table-gates.js";

/** On how many records a tree lets through, as far as can be said without looking at any. */
export function treeReach(gates: TableGates, tree: ActionTree): Reach {
  switch (tree.kind) {
    case "gate":
      return gates.gate(tree).reach;
    case "all":
      return tree.parts.map((part) => treeReach(gates, part)).reduce(bothReach);
    case "any":
      return anyReach(distinctWays(gates, tree.ways).map((way) => treeReach(gates, way.tree)));
    case "known":
      return bothReach(treeReach(gates, tree.known), treeReach(gates, tree.next));
    case "made":
      return bothReach(treeReach(gates, tree.act), treeReach(gates, tree.next));
    case "source":
      // What another record shows is not looked at: no promise can be made of it.
      return treeReach(gates, tree.record) === "none" ? "none" : "some";
    default:
      return tree satisfies never;
  }
}
