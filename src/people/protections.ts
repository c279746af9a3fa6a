import type { Row, Source } from "../conditions/source.js";
import { portierError } from "../schema/problems.js";
import type { Portier } from "../session/portier.js";
import { keptOf } from "./kept-state.js";

/** Cells of a grid that somebody protected, as it is kept. */
export interface Protection {
  readonly id: string;
  readonly table: string;
  /** In A1 notation: `B2:F40`, `C7`, `G:G`, `2:2`, `A2:E`, `H:`. */
  readonly ranges: readonly string[];
  /** Cells that are taken out again. */
  readonly except: readonly string[] | null;
  /** `reserve`: nobody but those in `to` edits the cells. `confirm`: everybody else is asked first. */
  readonly effect: "reserve" | "confirm";
  /** Names of roles and groups, and persons as `person KEY`. Nobody, where it is empty. */
  readonly to: readonly string[];
  /** What the person reads who is refused, or who must confirm. */
  readonly note: string | null;
  /** Canonical instants: it is there while `from <= now < until`. */
  readonly from: string | null;
  /** The instant from which it no longer counts; null for no end. */
  readonly until: string | null;
  /** The key of who made it. */
  readonly by: string | number | null;
  /** When it was made, or changed last. */
  readonly at: string;
  /** Another random number after each change: whoever writes it in SQL renews it, too. */
  readonly stamp: number;
}

/** A change of what is protected. `from` and `until` are dates (their start in the document's time zone) or instants. */
export type ProtectionChange =
  | {
      readonly kind: "protect";
      readonly table: string;
      readonly ranges: string | readonly string[];
      readonly except?: string | readonly string[] | undefined;
      /** Default: `reserve`. */
      readonly effect?: "reserve" | "confirm" | undefined;
      /** Who goes on editing the cells. Default: whoever protects them. */
      readonly to?: string | readonly string[] | undefined;
      /** The id of another protection of which `effect`, `to` and `note` are taken, where they are not given. */
      readonly copyOf?: string | undefined;
      readonly note?: string | undefined;
      readonly from?: string | undefined;
      readonly until?: string | undefined;
      readonly reason?: string | undefined;
    }
  /** What is not given stays as it is; null takes it away. */
  | {
      readonly kind: "change-protection";
      readonly id: string;
      readonly ranges?: string | readonly string[] | undefined;
      readonly except?: string | readonly string[] | null | undefined;
      readonly effect?: "reserve" | "confirm" | undefined;
      readonly to?: string | readonly string[] | undefined;
      readonly note?: string | null | undefined;
      readonly from?: string | null | undefined;
      readonly until?: string | null | undefined;
      readonly reason?: string | undefined;
    }
  | { readonly kind: "unprotect"; readonly id: string; readonly reason?: string | undefined };

/** What is protected in a table, the oldest first. */
export function protectionsIn({ schema }: Pick<Portier, "schema">, source: Source, table: string): Protection[] {
  const { protections } = keptOf({ schema });
  if (protections === undefined || schema.tables.get(table)?.grid?.protections !== true) {
    const what = `nothing is protected as data in "${table}"`;
    throw portierError("wrong-call", { what, hint: 'add "protections: true" to its grid' });
  }
  const rows = [...(source.referring?.(protections.name, "table", table) ?? [])];
  return rows.map(protectionOf).sort((a, b) => (a.at < b.at ? -1 : a.at > b.at ? 1 : a.id < b.id ? -1 : 1));
}

export function protectionOf(row: Row): Protection {
  return row as unknown as Protection;
}
