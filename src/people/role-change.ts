import type { Row } from "../conditions/source.js";
import type { Schema, SettingLevel } from "../schema/schema.js";
import type { StoredWrite } from "../session/overlay.js";
import { linksOf } from "../session/roles/holdings.js";

/**
 * A change of who holds what. `from` and `until` are dates (their start in the document's time zone) or instants;
 * persons and records are named by their keys.
 */
export type RoleChange =
  | {
      readonly kind: "assign";
      readonly person: string;
      readonly role: string;
      /** The record that a scoped role is assigned on. */
      readonly on?: string | undefined;
      readonly from?: string | undefined;
      readonly until?: string | undefined;
      readonly reason?: string | undefined;
    }
  /** Takes an assigned role away, now. */
  | {
      readonly kind: "revoke";
      readonly person: string;
      readonly role: string;
      readonly on?: string | undefined;
      readonly reason?: string | undefined;
    }
  /** Takes an assigned role away and gives another one, as one act: from editor to lead of the same record. */
  | {
      readonly kind: "replace";
      readonly person: string;
      /** The role that is assigned. */
      readonly role: string;
      /** The one that is taken away. Held on a record as the other is, or neither. */
      readonly insteadOf: string;
      readonly on?: string | undefined;
      /** When the new one ends: null for never. Default: when the old one would have ended. */
      readonly until?: string | null | undefined;
      readonly reason?: string | undefined;
    }
  /** Sets when an assigned role ends; null for never. */
  | {
      readonly kind: "set-expiry";
      readonly person: string;
      readonly role: string;
      readonly on?: string | undefined;
      readonly until: string | null;
      readonly reason?: string | undefined;
    }
  /** Lets `to` act for `of`, who is the assigner unless said. */
  | {
      readonly kind: "delegate";
      readonly of?: string | undefined;
      readonly to: string;
      readonly from?: string | undefined;
      readonly until?: string | undefined;
      /** Roles that are not acted in. */
      readonly without?: readonly string[] | undefined;
      readonly reason?: string | undefined;
    }
  /** Ends what lets `to` act for `of`, now. */
  | {
      readonly kind: "end-delegation";
      readonly of?: string | undefined;
      readonly to: string;
      readonly reason?: string | undefined;
    }
  /**
   * Makes, changes or deletes a record of a link table of the document, from which roles come. Without `key` it is made;
   * with `values: null` it is deleted.
   */
  | {
      readonly kind: "change-link";
      readonly table: string;
      readonly key?: string | undefined;
      readonly values: Row | null;
      readonly reason?: string | undefined;
    }
  /**
   * Sets how far a person may go with one field, of all records or of one; null takes away what was set. Written into the
   * table that the document's `people.settings` names.
   */
  | {
      readonly kind: "set";
      readonly person: string;
      readonly table: string;
      readonly field: string;
      readonly level: SettingLevel | null;
      /** The key of the one record that it is about. Default: all. */
      readonly record?: string | undefined;
      readonly reason?: string | undefined;
    }
  /** Changes a person's own record, which roles and groups may come from. */
  | {
      readonly kind: "change-person";
      readonly person: string;
      readonly values: Row;
      readonly reason?: string | undefined;
    };

/** The key of whoever gains or loses by a change: of acting for another, the one who acts. */
export function affectedPerson(change: RoleChange, schema: Schema, writes: readonly StoredWrite[]): string {
  if (change.kind === "delegate" || change.kind === "end-delegation") return change.to;
  if (change.kind !== "change-link") return change.person;
  const holder = linksOf(schema).find(({ table }) => table.name === change.table)?.person.name ?? "";
  const row = writes[0]?.after ?? writes[0]?.before ?? change.values ?? {};
  return String(row[holder] ?? "");
}
