import { useSyncExternalStore } from "react";

/** The views of the inspector, in the order of its navigation. */
export const views = ["view-as", "matrix", "rules", "roles", "expectations"] as const;

export type View = (typeof views)[number];

/** Where one is: it stands in the address, so that it can be kept and gone back to. `#/view-as/objects?as=s-003&compare=s-001` */
export interface Address {
  readonly view: View;
  readonly table: string | undefined;
  readonly as: string | undefined;
  readonly compare: string | undefined;
  /** A line of the rules to go to. */
  readonly line: number | undefined;
}

export function readAddress(hash: string): Address {
  const [path = "", query = ""] = hash.replace(/^#\/?/, "").split("?");
  const [view, table] = path.split("/").map(decodeURIComponent);
  const asked = new URLSearchParams(query);
  const line = Number(asked.get("line"));
  return {
    view: views.find((one) => one === view) ?? "view-as",
    table: table === "" ? undefined : table,
    as: asked.get("as") ?? undefined,
    compare: asked.get("compare") ?? undefined,
    line: Number.isInteger(line) && line > 0 ? line : undefined,
  };
}

export function printAddress({ view, table, as, compare, line }: Address): string {
  const query = new URLSearchParams();
  if (as !== undefined) query.set("as", as);
  if (compare !== undefined) query.set("compare", compare);
  if (line !== undefined) query.set("line", String(line));
  const path = table === undefined ? view : `${view}/${encodeURIComponent(table)}`;
  return `#/${path}${query.size === 0 ? "" : `?${query}`}`;
}

/** The address, and a way to change parts of it. */
export function useAddress(): readonly [Address, (change: Partial<Address>) => void] {
  const hash = useSyncExternalStore(
    (onChange) => {
      window.addEventListener("hashchange", onChange);
      return () => window.removeEventListener("hashchange", onChange);
    },
    () => window.location.hash,
  );
  const address = readAddress(hash);
  return [
    address,
    (change) => {
      window.location.hash = printAddress({ ...address, line: undefined, ...change });
    },
  ];
}
