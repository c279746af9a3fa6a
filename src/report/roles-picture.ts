import type { Group, Member } from "../rules/groups.js";
import { readLine } from "../rules/lines.js";
import type { Role } from "../schema/schema.js";
import { escaped } from "./page.js";

interface Node {
  readonly name: string;
  readonly kind: "role" | "group";
  /** A second line: the scope of a role, or who is in a group besides roles and groups. */
  readonly detail: string;
}

interface Edge {
  readonly from: string;
  readonly to: string;
  /** `brings`: whoever holds the one holds the other. `takes in`: whoever holds the one is in the other. */
  readonly kind: "brings" | "takes-in";
}

const box = { width: 168, height: 44, across: 72, down: 18, margin: 12 } as const;

/**
 * Roles and groups as an SVG: an arrow leads from what somebody holds to what comes with it, in columns by the longest
 * way from the left. Roles are boxes with corners, groups round ones.
 */
export function drawRoles(roles: readonly Role[], groups: readonly Group[]): string {
  const nodes = [
    ...roles.map(({ name, scope }): Node => ({ name, kind: "role", detail: scope === undefined ? "" : `of ${scope}` })),
    ...groups.map((group): Node => ({ name: group.name, kind: "group", detail: othersIn(group) })),
  ];
  const edges = [...roles.flatMap((role) => bringsOf(role, roles)), ...groups.flatMap(edgesOf)];
  const rows = placesOf(nodes, edges);
  const place = new Map(
    [...rows].map(([name, { column, row }]) => [
      name,
      { x: box.margin + column * (box.width + box.across), y: box.margin + row * (box.height + box.down) },
    ]),
  );
  const most = (of: "column" | "row") => Math.max(0, ...[...rows.values()].map((one) => one[of])) + 1;
  const width = box.margin * 2 + most("column") * (box.width + box.across) - box.across;
  const height = box.margin * 2 + most("row") * (box.height + box.down) - box.down;
  const lines = edges.flatMap(({ from, to, kind }) => {
    const [start, end] = [place.get(from), place.get(to)];
    if (start === undefined || end === undefined) return [];
    const [x1, y1, x2, y2] = [start.x + box.width, start.y + box.height / 2, end.x - 7, end.y + box.height / 2];
    const bend = box.across / 2;
    return [
      `<path class="${kind}" d="M${x1} ${y1} C${x1 + bend} ${y1} ${x2 - bend} ${y2} ${x2} ${y2}" marker-end="url(#tip)"/>`,
    ];
  });
  const boxes = nodes.map(({ name, kind, detail }) => {
    const { x, y } = place.get(name) ?? { x: 0, y: 0 };
    const round = kind === "group" ? ` rx="${box.height / 2}"` : ' rx="3"';
    const lower =
      detail === ""
        ? ""
        : `<text class="detail" x="${x + box.width / 2}" y="${y + 34}">${escaped(cut(detail, 30))}</text>`;
    return `<g class="${kind}"><title>${escaped(`${kind} ${name}${detail === "" ? "" : `: ${detail}`}`)}</title><rect x="${x}" y="${y}" width="${box.width}" height="${box.height}"${round}/><text x="${x + box.width / 2}" y="${y + (detail === "" ? 27 : 19)}">${escaped(cut(name, 22))}</text>${lower}</g>`;
  });
  return `<svg class="roles" role="img" aria-label="Roles and groups, and what comes with each" viewBox="0 0 ${width} ${height}" width="${width}" height="${height}" xmlns="http://www.w3.org/2000/svg">
<defs><marker id="tip" viewBox="0 0 8 8" refX="1" refY="4" markerWidth="7" markerHeight="7" orient="auto"><path d="M0 0 L8 4 L0 8 Z"/></marker></defs>
${lines.join("\n")}
${boxes.join("\n")}
</svg>`;
}

/** The roles that a role includes directly: those that no other included one brings as well. */
function bringsOf({ name, closure }: Role, roles: readonly Role[]): Edge[] {
  const included = roles.filter((role) => role.name !== name && closure.has(role.name));
  const direct = included.filter((one) => !included.some((other) => other !== one && other.closure.has(one.name)));
  return direct.map((role): Edge => ({ from: name, to: role.name, kind: "brings" }));
}

function edgesOf({ name, members, roles }: Group): Edge[] {
  const taken = members.flatMap((member) =>
    member.kind === "member" ? [readLine(member.name)?.of ?? member.name] : [],
  );
  return [
    ...taken.map((from): Edge => ({ from, to: name, kind: "takes-in" })),
    ...roles.map((to): Edge => ({ from: name, to, kind: "brings" })),
  ];
}

function othersIn({ members }: Group): string {
  const isPlain = (member: Member) => member.kind === "member" && readLine(member.name) === undefined;
  return members.flatMap((member) => (isPlain(member) ? [] : [member.text])).join(", ");
}

interface Place {
  readonly column: number;
  readonly row: number;
}

/** How many that nothing is joined to stand beside each other below the others. */
const looseInRow = 4;

/**
 * Each node in the column behind the last of those that lead to it, at the height of their middle, so that few arrows
 * cross a box; below them those that nothing is joined to.
 */
function placesOf(nodes: readonly Node[], edges: readonly Edge[]): Map<string, Place> {
  const level = new Map(nodes.map(({ name }) => [name, 0]));
  // No circles: compile refuses them. So after as many rounds as there are nodes nothing moves.
  for (let round = 0; round < nodes.length; round++) {
    const moving = edges.filter(({ from, to }) => (level.get(from) ?? 0) >= (level.get(to) ?? 0));
    if (moving.length === 0) break;
    for (const { from, to } of moving) level.set(to, Math.max(level.get(to) ?? 0, (level.get(from) ?? 0) + 1));
  }
  const isJoined = ({ name }: Node) => edges.some(({ from, to }) => from === name || to === name);
  const places = new Map<string, Place>();
  const columns = Math.max(0, ...level.values()) + 1;
  for (let column = 0; column < columns; column++) {
    const own = nodes.filter((node) => isJoined(node) && level.get(node.name) === column);
    const middle = ({ name }: Node) => {
      const rows = edges.flatMap(({ from, to }) => (to === name ? (places.get(from)?.row ?? []) : []));
      return rows.length === 0 ? 0 : rows.reduce((sum, row) => sum + row, 0) / rows.length;
    };
    let next = 0;
    for (const node of own.sort((a, b) => middle(a) - middle(b))) {
      const row = Math.max(next, Math.round(middle(node)));
      places.set(node.name, { column, row });
      next = row + 1;
    }
  }
  const below = Math.max(-1, ...[...places.values()].map(({ row }) => row)) + 1;
  for (const [index, { name }] of nodes.filter((node) => !isJoined(node)).entries()) {
    places.set(name, { column: index % looseInRow, row: below + Math.floor(index / looseInRow) });
  }
  return places;
}

function cut(text: string, most: number): string {
  return text.length <= most ? text : `${text.slice(0, most - 1)}…`;
}
