import type { Row, Snapshot } from "portier";
import { PortierProvider } from "portier/react";
import { openSnapshot } from "portier/snapshot";
import { createContext, type ReactNode, useContext, useEffect, useMemo, useState } from "react";
import { get, listRecords, type Shape } from "./api.js";

interface Session {
  readonly snapshot: Snapshot;
  readonly shapes: Readonly<Record<string, Shape>>;
  readonly person: string | null;
  readonly name: string | null;
  readonly actedBy: string | null;
  readonly actedByName: string | null;
}

export interface Museum extends Session {
  /** Asks the server anew who this is and what they may. */
  readonly refresh: () => void;
  /** What a key of another table is called, where that may be seen. */
  readonly labelOf: (table: string, key: unknown) => string;
}

const MuseumContext = createContext<Museum | undefined>(undefined);

export function useMuseum(): Museum {
  const museum = useContext(MuseumContext);
  if (museum === undefined) throw new Error("there is no museum around this component");
  return museum;
}

const labelled: Readonly<Record<string, string>> = { staff: "name", departments: "name", exhibitions: "title" };

/**
 * Fetches who is signed in and the plan of what they may, and again whenever somebody's roles or the plan's ranges have
 * changed, in this window or another one.
 */
export function MuseumProvider({ children }: { children: ReactNode }): ReactNode {
  const [session, setSession] = useState<Session>();
  const [labels, setLabels] = useState<ReadonlyMap<string, string>>(new Map());
  const [turn, setTurn] = useState(0);
  const refresh = useMemo(() => () => setTurn((one) => one + 1), []);
  useEffect(() => {
    let isCurrent = turn >= 0;
    get<Session>("/session").then(async (next) => {
      if (!isCurrent) return;
      setSession(next);
      const found = new Map<string, string>();
      const own = openSnapshot(next.snapshot);
      for (const [table, field] of Object.entries(labelled)) {
        // What does not exist for somebody is not asked for.
        if (own.reach("list", table, field) === "none") continue;
        const records = await listRecords(table, { limit: "500" }).then(
          (page) => page.records,
          (): readonly Row[] => [],
        );
        for (const record of records) {
          const label = record[field];
          if (typeof label === "string") found.set(`${table}/${record["id"]}`, label);
        }
      }
      if (isCurrent) setLabels(found);
    });
    return () => {
      isCurrent = false;
    };
  }, [turn]);
  useEffect(() => {
    const events = new EventSource("/api/changes");
    events.addEventListener("access", refresh);
    return () => events.close();
  }, [refresh]);
  const museum = useMemo(
    () =>
      session && {
        ...session,
        refresh,
        labelOf: (table: string, key: unknown) => labels.get(`${table}/${key}`) ?? String(key),
      },
    [session, refresh, labels],
  );
  if (museum === undefined) return null;
  return (
    <MuseumContext value={museum}>
      <PortierProvider snapshot={museum.snapshot}>{children}</PortierProvider>
    </MuseumContext>
  );
}
