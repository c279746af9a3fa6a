import type { Part } from "./reader.js";
import type { Problems } from "./report.js";

interface Arrow {
  readonly name: string;
  readonly part: Part;
}

/**
 * Names the first circle among things that lead to each other: depth first with an explicit stack, as chains may be
 * long. The problem's place is the arrow that closes the circle.
 */
export function reportCircle(
  names: Iterable<string>,
  arrowsFrom: (name: string) => readonly Arrow[],
  problems: Problems,
  what: "roles" | "groups and roles" | "may",
): void {
  const done = new Set<string>();
  for (const start of names) {
    const trail: { name: string; arrows: readonly Arrow[]; next: number }[] = [
      { name: start, arrows: arrowsFrom(start), next: 0 },
    ];
    const open = new Set([start]);
    for (let top = trail[0]; top !== undefined; top = trail[trail.length - 1]) {
      const arrow = done.has(top.name) ? undefined : top.arrows[top.next++];
      if (arrow === undefined) {
        done.add(top.name);
        open.delete(top.name);
        trail.pop();
      } else if (open.has(arrow.name)) {
        const passed = trail.map((step) => step.name);
        const circle = [...passed.slice(passed.indexOf(arrow.name)), arrow.name];
        problems.add("circular-reference", { what, names: circle }, arrow.part.path);
        return;
      } else {
        open.add(arrow.name);
        trail.push({ name: arrow.name, arrows: arrowsFrom(arrow.name), next: 0 });
      }
    }
  }
}
