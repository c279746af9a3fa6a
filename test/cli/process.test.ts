import { type ChildProcess, spawn, spawnSync } from "node:child_process";
import { chmodSync, cpSync, existsSync, mkdtempSync, readFileSync, symlinkSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join, resolve } from "node:path";
import { describe, expect, it, vi } from "vitest";
import { progressOf } from "../../src/cli/progress.js";
import { museumFile } from "../support/museum.js";

// The command as a process among others: what it can be told, and what others see of it.

function museumFolder(): string {
  const folder = mkdtempSync(join(tmpdir(), "process-"));
  cpSync(dirname(museumFile), folder, { recursive: true });
  return folder;
}

const ended = (child: ChildProcess) =>
  new Promise<{ code: number | null; signal: string | null }>((resolve) =>
    child.once("exit", (code, signal) => resolve({ code, signal })),
  );

/** A million records of one table, and rules that each is asked about. */
function largeFolder(): string {
  const folder = mkdtempSync(join(tmpdir(), "large-"));
  const people = Array.from({ length: 4_000 }, (_, index) => `p${index},d${index % 40}`);
  writeFileSync(join(folder, "staff.csv"), `id,dept\n${people.join("\n")}\n`);
  const things = Array.from({ length: 60_000 }, (_, index) => `t${index},d${index % 40},p${index % 4_000},${index}`);
  writeFileSync(join(folder, "things.csv"), `id,dept,keeper,price\n${things.join("\n")}\n`);
  const rules = Array.from(
    { length: 12 },
    (_, index) =>
      `      r${index}: { to: signed-in, where: "dept = me.dept or keeper = me or price > ${index}", permit: { view: [id, price], edit: [price] } }`,
  );
  writeFileSync(
    join(folder, "large.portier.yaml"),
    `portier: 1\npeople: { table: staff }\ntables:\n  staff:\n    key: id\n    fields: { id: text, dept: text }\n  things:\n    key: id\n    owner: keeper\n    fields: { id: text, dept: text, keeper: { reference: staff }, price: integer }\n    rules:\n${rules.join("\n")}\n`,
  );
  return folder;
}

describe("long work", () => {
  const folder = largeFolder();
  const file = join(folder, "large.portier.yaml");
  const work = ["matrix", file, "--data", folder, "--by", "people", "--fields"];

  it.each([
    ["SIGINT", work],
    ["SIGTERM", work],
    ["SIGINT", ["lint", file, "--data", folder]],
    ["SIGTERM", ["test", museumFile, "--mutate"]],
  ] as const)("is ended by %s at once: %s", async (signal, args) => {
    const child = spawn("node", ["dist/cli/main.js", ...args], { stdio: "ignore" });
    const over = ended(child);
    // In the middle of it: the command has begun to work things out, and does nothing else.
    await new Promise((resolve) => setTimeout(resolve, 2_500));
    expect([child.exitCode, child.signalCode]).toEqual([null, null]);
    child.kill(signal);
    // It has no say in it, and could not finish first: the signal is what it ends by.
    expect(await over).toEqual({ code: null, signal });
  });

  it("says how far it is where somebody waits at a terminal, and nowhere else", () => {
    vi.useFakeTimers({ toFake: ["Date"] });
    const told: string[] = [];
    const [waiting, elsewhere] = [{ progress: (text: string) => told.push(text) }, {}].map((io) =>
      progressOf(io, "matrix", "tables"),
    );
    for (let done = 1; done <= 4; done += 1) {
      vi.advanceTimersByTime(3_000);
      waiting?.(done, 9);
      elsewhere?.(done, 9);
    }
    vi.useRealTimers();
    expect(told).toEqual(["matrix: 2 of 9 tables\n", "matrix: 4 of 9 tables\n"]);
  });

  it("imports of the package leave the signals of the program that imports it alone", async () => {
    const program = `
      const count = () => process.eventNames().filter((name) => String(name).startsWith("SIG")).join();
      for (const part of ${JSON.stringify(["", "/database", "/directory", "/document", "/explain", "/hono", "/http", "/kysely", "/people", "/report", "/snapshot", "/sql", "/tokens", "/verify"])}) await import("portier" + part);
      process.stdout.write(count());
    `;
    const child = spawn("node", ["--input-type=module", "-e", program], { stdio: ["ignore", "pipe", "inherit"] });
    let said = "";
    child.stdout.on("data", (part) => {
      said += String(part);
    });
    expect(await ended(child)).toEqual({ code: 0, signal: null });
    expect(said).toBe("");
  });
});

describe("the inspector's server", () => {
  async function open(file: string): Promise<{ address: string; child: ChildProcess }> {
    const child = spawn("node", ["dist/cli/main.js", "inspect", file, "--no-browser"]);
    const address = await new Promise<string>((resolve) =>
      child.stdout.on("data", (part) => {
        const [found] = /http:\S+/.exec(String(part)) ?? [];
        if (found !== undefined) resolve(found);
      }),
    );
    return { address, child };
  }
  const put = (address: string, body: object) =>
    fetch(`${address}api/file`, { method: "PUT", body: JSON.stringify(body) });

  it("saves one of two that were begun on the same version, and follows no link out of the folder", async () => {
    const folder = museumFolder();
    const name = "museum.portier.yaml";
    const elsewhere = join(mkdtempSync(join(tmpdir(), "elsewhere-")), "kept");
    writeFileSync(elsewhere, "kept");
    symlinkSync(elsewhere, join(folder, "museum.linked.expect.yaml"));
    symlinkSync(`${elsewhere}-not-there`, join(folder, "museum.lost.expect.yaml"));
    const { address, child } = await open(join(folder, name));
    const state = (await (await fetch(`${address}api/project`)).json()) as {
      document: { text: string; version: string };
      expectations: { name: string; version: string }[];
    };
    const { text, version } = state.document;
    const saves = await Promise.all(
      [1, 2, 3, 4].map((number) => put(address, { name, text: `${text}# ${number}\n`, version })),
    );
    expect(saves.map(({ status }) => status).sort()).toEqual([200, 409, 409, 409]);
    for (const linked of ["museum.linked.expect.yaml", "museum.lost.expect.yaml"]) {
      const seen = state.expectations.find((one) => one.name === linked)?.version;
      expect(seen).toBeDefined();
      expect((await put(address, { name: linked, text: "other", version: seen })).ok).toBe(false);
    }
    expect(readFileSync(elsewhere, "utf8")).toBe("kept");
    expect(existsSync(`${elsewhere}-not-there`)).toBe(false);
    child.kill();
    await ended(child);
  });

  // What makes a terminal here is called so on Linux.
  const onLinux = process.platform === "linux" ? it : it.skip;
  onLinux("tells its address to the browser of this user, and to nobody who looks at processes", async () => {
    const folder = museumFolder();
    const told = join(folder, "told");
    const opener = join(folder, "xdg-open");
    writeFileSync(
      opener,
      `#!/bin/sh\necho "$@" > ${told}\nstat -c %a "$(dirname "$1")" >> ${told}\ncat "$1" >> ${told}\n`,
    );
    chmodSync(opener, 0o755);
    // A terminal: without one, no browser is opened.
    const command = `node dist/cli/main.js inspect ${join(folder, "museum.portier.yaml")}`;
    const env = { ...process.env, PATH: `${folder}:${process.env["PATH"]}` };
    const child = spawn("script", ["-qec", command, "/dev/null"], { env });
    let said = "";
    child.stdout.on("data", (part) => {
      said += String(part);
    });
    await vi.waitFor(() => expect(existsSync(told) && readFileSync(told, "utf8")).toContain("refresh"), {
      timeout: 15_000,
    });
    const [args = "", mode, ...page] = readFileSync(told, "utf8").split("\n");
    const [address = ""] = /http:\S+\//.exec(said) ?? [];
    const key = address.split("/").at(-2) ?? "";
    expect(key).toMatch(/^[0-9a-f]{32}$/);
    expect(page.join()).toContain(address);
    expect(args).not.toContain(key);
    expect(mode).toBe("700");
    child.stdin.write("\u0003");
    await ended(child);
    expect(existsSync(args.trim())).toBe(false);
  });
});

describe("colors", () => {
  it.each([
    [{ FORCE_COLOR: "1" }, true],
    [{ FORCE_COLOR: "0" }, false],
    [{ FORCE_COLOR: "1", NO_COLOR: "1" }, false],
    [{}, false],
  ])("are there as the environment says, on each stream by itself: %j", (more, isColored) => {
    const { FORCE_COLOR: _, NO_COLOR: __, ...env } = process.env;
    const run = (...words: readonly string[]) =>
      spawnSync("node", ["dist/cli/main.js", ...words], { encoding: "utf8", env: { ...env, ...more } });
    expect(run("matrix", museumFile).stdout.includes("\u001b[")).toBe(isColored);
    expect(run("lint", "none.yaml").stderr.includes("\u001b[")).toBe(isColored);
    expect(run("-v").stdout).toBe(run("--version").stdout);
  });
});

describe("the rules file of the folder", () => {
  const own = museumFolder();
  const two = museumFolder();
  cpSync(join(two, "museum.portier.yaml"), join(two, "other.portier.yaml"));
  const none = mkdtempSync(join(tmpdir(), "none-"));
  const main = resolve("dist/cli/main.js");
  const run = (cwd: string, words: readonly string[]) => {
    const { status, stdout, stderr } = spawnSync("node", [main, ...words], { cwd, encoding: "utf8" });
    return { status, out: stdout, err: stderr };
  };

  it.each([
    ["lint"],
    ["show", "objects", "--as", "s-003", "--limit", "2"],
    ["show", "--as", "s-003", "objects", "--limit", "2"],
    ["explain", "view", "objects", "BM-SH-0001", "shelf", "--as", "s-003"],
    ["members", "editor", "--at", "2026-11-24"],
    ["sql", "objects", "list", "--as", "s-003"],
  ])("need not be named where there is one: %s", (...words) => {
    const [name = "", ...more] = words;
    const named = run(own, [name, "museum.portier.yaml", ...more]);
    expect(named.status).toBe(0);
    expect(run(own, words)).toEqual(named);
    expect(run(two, words)).toMatchObject({
      status: 2,
      out: "",
      err: expect.stringContaining("Name one of the rules files here: museum.portier.yaml, other.portier.yaml"),
    });
  });

  it("is the one that is named, wherever that stands", () => {
    expect(run(two, ["lint", "other.portier.yaml"]).out).toContain("other.portier.yaml");
    expect(run(two, ["lint", "--format", "text", "other.portier.yaml"]).out).toContain("other.portier.yaml");
    // An option that takes no value has none in the file; one that takes it has.
    for (const words of [
      ["lint", "--untested"],
      ["matrix", "--fields"],
    ]) {
      const named = run(own, [...words, "museum.portier.yaml"]);
      expect(named.err, words.join(" ")).not.toContain("error");
      expect(run(own, words)).toEqual(named);
    }
    // What is the value of an option is not meant.
    expect(run(own, ["diff", "--accept", "none.yaml"]).err).toContain("missing required argument");
    expect(run(own, ["lint", "none.yaml"]).err).toContain("Cannot read none.yaml");
  });

  it("comes from another command where it is called -", () => {
    const piped = (input: string, ...words: readonly string[]) =>
      spawnSync("node", [main, ...words], { cwd: own, encoding: "utf8", input });
    const text = readFileSync(museumFile, "utf8");
    expect(piped(text, "show", "-", "objects", "--as", "s-003", "--limit", "2").stdout).toBe(
      run(own, ["show", "objects", "--as", "s-003", "--limit", "2"]).out,
    );
    expect(piped(text.replace("to: keeper", "to: keper"), "lint", "-").stdout).toMatch(/stdin:\d+:\d+ .*"keper"/);
  });

  it("is asked for where there is none, and told of where help says what to do first", () => {
    expect(run(none, ["lint"])).toMatchObject({
      status: 2,
      err: expect.stringContaining("There is no rules file here"),
    });
    expect(run(none, []).out).toContain("portier lint museum.portier.yaml");
    const { out } = run(own, []);
    expect(out).toContain(
      "First steps with museum.portier.yaml, which stands here and need not be named:\n  portier lint ",
    );
    expect(out).not.toContain("portier import postgres");
  });
});
