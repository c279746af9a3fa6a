import { type ChildProcess, spawn } from "node:child_process";
import type { Browser, BrowserContext, Page } from "playwright-core";
import { expect, it } from "vitest";
import { launch } from "../../../test/support/browser.js";
import { type Engine, engines } from "../../../test/support/engines.js";
import { freePort } from "../../../test/support/ports.js";
import { isLong } from "../../../test/support/runs.js";

/** The databases that the application runs on. */
export const appDatabases = Object.entries(engines).filter(([name]) => name === "PGlite" || name === "PostgreSQL");

/** Those on which pages are looked at whose part of the database is tested elsewhere: on PostgreSQL where tests run for long. */
export const pageDatabases = isLong ? appDatabases : appDatabases.slice(0, 1);

/** For what the database has little part in: looked at on the embedded one alone, but for tests that run for long. */
export function pagesOn([name]: readonly [string, unknown]): (what: string, look: () => Promise<void>) => void {
  return (what, look) => {
    if (name === "PGlite" || isLong) it(what, look);
  };
}

/** Starts the application as it is started by hand; on PostgreSQL in a schema of its own. */
export async function startApp(
  address: string | undefined,
  now: string,
): Promise<{ readonly url: string; readonly process: ChildProcess }> {
  const port = await freePort();
  const env = {
    ...process.env,
    PORT: String(port),
    MUSEUM_NOW: now,
    ...(address === undefined ? {} : { DATABASE_URL: address }),
  };
  const child = spawn("node", ["examples/museum-app/dist-server/server/main.js"], {
    env,
    stdio: ["ignore", "pipe", "pipe"],
  });
  let said = "";
  await new Promise<void>((resolve, reject) => {
    const hear = (part: Buffer) => {
      said += String(part);
      if (said.includes("http://127.0.0.1")) resolve();
    };
    child.stdout?.on("data", hear);
    child.stderr?.on("data", hear);
    child.on("exit", () => reject(new Error(said)));
  });
  return { url: `http://127.0.0.1:${port}/`, process: child };
}

/** The application as people meet it: each in a window of their own. */
export interface App {
  readonly url: string;
  /** A window in which somebody is signed in; nobody for a visitor. */
  enter(who?: string, width?: number): Promise<Page>;
  go(page: Page, ...parts: string[]): Promise<unknown>;
  /** Closes the windows, and fails for what any of them complained about. */
  leave(): Promise<void>;
  close(): Promise<void>;
}

export async function openApp(
  database: readonly [string, () => Promise<Engine>],
  now = "2026-11-24T09:00:00Z",
): Promise<App> {
  const [name, open] = database;
  const engine = name === "PGlite" ? undefined : await open();
  const [browser, declared]: [Browser, Awaited<ReturnType<typeof startApp>>] = await Promise.all([
    launch(),
    startApp(engine?.address, now),
  ]);
  const complaints: string[] = [];
  let windows: BrowserContext[] = [];
  return {
    url: declared.url,
    enter: async (who, width = 1280) => {
      const context = await browser.newContext({ viewport: { width, height: 800 } });
      windows.push(context);
      const page = await context.newPage();
      page.on("pageerror", (error) => complaints.push(error.message));
      // What is not accepted is an answer, which the browser counts among failures.
      const isAnswer = (text: string) => /status of (?:403|404|409|422)/.test(text);
      page.on(
        "console",
        (message) => message.type() === "error" && !isAnswer(message.text()) && complaints.push(message.text()),
      );
      await page.goto(who === undefined ? declared.url : `${declared.url}#/sign-in`);
      if (who !== undefined) {
        await page.getByRole("button", { name: `Sign in as ${who}` }).click();
        await expect.poll(() => page.getByTestId("who").textContent()).toContain(who);
      }
      return page;
    },
    go: (page, ...parts) => page.goto(`${declared.url}#/${parts.map(encodeURIComponent).join("/")}`),
    leave: async () => {
      for (const one of windows) await one.close();
      windows = [];
      expect(complaints.splice(0)).toEqual([]);
    },
    close: async () => {
      await browser.close();
      declared.process.kill();
      await engine?.close();
    },
  };
}
