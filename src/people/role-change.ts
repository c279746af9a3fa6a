import type { Row } from "../conditions/source.js";

/**
 * A change of who holds what. `from` and `until` are dates (their start in the document's time zone) or instants;
 * persons and records are named by their keys.
 */
export type RoleChange =
  | {
      readonly kind: "assign";
      readonly person: string;
      readonly role: string;
      /** The record that a scoped role is given on. */
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
  /** Sets when an assigned role ends; null for never. */
  | {
      readonly kind: "limit";
      readonly person: string;
      readonly role: string;
      readonly on?: string | undefined;
      readonly until: string | null;
      readonly reason?: string | undefined;
    }
  /** Lets `to` act for `of`, who is the giver unless said. */
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
      readonly kind: "end";
      readonly of?: string | undefined;
      readonly to: string;
      readonly reason?: string | undefined;
    }
  /** Changes a person's own record, which roles and groups may come from. */
  | { readonly kind: "person"; readonly person: string; readonly values: Row; readonly reason?: string | undefined };
