import { createContext, createElement, type ReactElement, type ReactNode, useContext, useMemo } from "react";
import type { Source } from "../conditions/source.js";
import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import type { Session } from "../session/session.js";
import { openSnapshot, type Snapshot } from "../session/snapshot.js";

const SessionContext = createContext<Session | undefined>(undefined);

/** A session, or a snapshot of one that a server made. */
export type PortierProviderProps =
  | { readonly session: Session<never> | Session; readonly children?: ReactNode }
  | { readonly snapshot: Snapshot; readonly source?: Source; readonly children?: ReactNode };

/**
 * Gives the session of who is signed in to everything below. Where it is another one, such as after a role was taken
 * away, everything below asks again.
 *
 * Nothing here is an effect: what is rendered on a server is what a browser renders first.
 */
export function PortierProvider(props: PortierProviderProps): ReactElement {
  const { children } = props;
  const given = "session" in props ? (props.session as Session) : undefined;
  const snapshot = "snapshot" in props ? props.snapshot : undefined;
  const source = "snapshot" in props ? props.source : undefined;
  const session = useMemo(
    () => given ?? openSnapshot(snapshot as Snapshot, source === undefined ? {} : { source }),
    [given, snapshot, source],
  );
  return createElement(SessionContext.Provider, { value: session }, children);
}

/**
 * The session of who is signed in.
 *
 * @throws Error outside of a {@link PortierProvider}: nothing is permitted by default.
 */
export function usePortier<T extends DocumentTypes = AnyDocument>(): Session<T> {
  const session = useContext(SessionContext);
  if (session === undefined) throw new Error("there is no PortierProvider around this component");
  return session as unknown as Session<T>;
}
