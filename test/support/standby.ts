import { execFileSync } from "node:child_process";
import { existsSync, mkdtempSync, readdirSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import pg from "pg";
import { freePort } from "./ports.js";

/** A primary and a hot standby of PostgreSQL that follows it, on this machine, for a test file. */
export interface Pair {
  readonly primary: pg.Pool;
  readonly standby: pg.Pool;
  /** Runs statements on the primary. */
  readonly run: (text: string, params?: readonly unknown[]) => Promise<pg.QueryResult>;
  /** From here on the standby stays as it is; what the primary does reaches it, and waits. */
  readonly pause: () => Promise<void>;
  /** The standby goes on. */
  readonly resume: () => Promise<void>;
  /** Waits until the standby knows what the primary knows now. */
  readonly catchUp: () => Promise<void>;
  /** A login of its own on one of them. */
  readonly login: (which: "primary" | "standby", user: string) => Promise<pg.Client>;
  /** Stops the primary at once, as if its machine were gone. */
  readonly stopPrimary: () => void;
  readonly close: () => Promise<void>;
}

const installed = "/usr/lib/postgresql";

/** Where the programs of a PostgreSQL server are; undefined where there are none. */
export const programs: string | undefined =
  process.env["PORTIER_POSTGRES"] === undefined || !existsSync(installed)
    ? undefined
    : readdirSync(installed)
        .map((version) => join(installed, version, "bin"))
        .find((bin) => existsSync(join(bin, "pg_basebackup")));

export async function openPair(): Promise<Pair> {
  const bin = programs as string;
  const folder = mkdtempSync(join(tmpdir(), "portier-pair-"));
  // The server does not run as root.
  const isRoot = process.getuid?.() === 0;
  if (isRoot) execFileSync("chown", ["postgres", folder]);
  const program = (name: string, ...args: string[]) => {
    const [file, given] = isRoot
      ? ["setpriv", ["--reuid=postgres", "--regid=postgres", "--clear-groups", join(bin, name), ...args]]
      : [join(bin, name), args];
    execFileSync(file as string, given as string[], { cwd: folder, stdio: "pipe" });
  };
  const [ports, folders] = [
    { primary: await freePort(), standby: await freePort() },
    { primary: join(folder, "primary"), standby: join(folder, "standby") },
  ];
  const start = (which: "primary" | "standby") => {
    const settings = `-p ${ports[which]} -k ${folder} -c listen_addresses=127.0.0.1 -c fsync=off -c jit=off`;
    program("pg_ctl", "-w", "-D", folders[which], "-l", join(folder, `${which}.log`), "-o", settings, "start");
  };
  program("initdb", "-U", "root", "-A", "trust", "-N", "-D", folders.primary);
  start("primary");
  program("pg_basebackup", "-h", "127.0.0.1", "-p", `${ports.primary}`, "-U", "root", "-R", "-D", folders.standby);
  start("standby");

  const address = (which: "primary" | "standby") => ({
    host: "127.0.0.1",
    port: ports[which],
    database: "postgres",
  });
  const pool = (which: "primary" | "standby") => {
    const made = new pg.Pool({ ...address(which), user: "root" });
    made.on("error", () => {});
    return made;
  };
  const [primary, standby] = [pool("primary"), pool("standby")];
  return {
    primary,
    standby,
    run: (text, params = []) => primary.query(text, [...params]),
    pause: async () => {
      await standby.query("select pg_wal_replay_pause()");
      for (let is = ""; is !== "paused"; ) {
        is = (await standby.query("select pg_get_wal_replay_pause_state() as is")).rows[0].is;
      }
    },
    resume: async () => {
      await standby.query("select pg_wal_replay_resume()");
    },
    catchUp: async () => {
      const { now } = (await primary.query("select pg_current_wal_insert_lsn()::text as now")).rows[0];
      for (let isThere = false; !isThere; ) {
        isThere = (await standby.query("select pg_last_wal_replay_lsn() >= $1::pg_lsn as is", [now])).rows[0].is;
      }
    },
    login: async (which, user) => {
      const client = new pg.Client({ ...address(which), user });
      await client.connect();
      return client;
    },
    stopPrimary: () => program("pg_ctl", "-D", folders.primary, "-m", "immediate", "stop"),
    close: async () => {
      await Promise.all([primary.end(), standby.end()]);
      for (const which of ["standby", "primary"] as const) {
        try {
          program("pg_ctl", "-D", folders[which], "-m", "immediate", "stop");
        } catch {
          // It was stopped before.
        }
      }
      rmSync(folder, { recursive: true, force: true });
    },
  };
}
