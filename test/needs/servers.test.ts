import { createServer, type IncomingMessage, type Server, request as send } from "node:http";
import type { AddressInfo } from "node:net";
import express from "express";
// @ts-expect-error: the earlier major version has no types here
import express4 from "express-4";
import fastify from "fastify";
import { compile } from "portier";
import { parseDocument } from "portier/document";
import type { HttpOptions } from "portier/http";
import { fastifyHook, type NodeOptions, nodeRoutes } from "portier/node";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";

/** I want the routes in the server that I have. */
const portier = compile(
  parseDocument(`
portier: 1
people: { table: staff, roles: post }
roles: { keeper: {} }
tables:
  staff: { key: id, fields: { id: text, post: { choice: [keeper] } } }
  objects:
    key: id
    fields: { id: text, label: { type: text, optional: true }, shelf: { type: text, optional: true } }
    rules:
      labels: { to: keeper, permit: { view: [label], edit: [label], create: all } }
`).document,
);

interface Running {
  readonly address: string;
  readonly close: () => Promise<unknown>;
}

async function listening(server: Server): Promise<Running> {
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  const { port } = server.address() as AddressInfo;
  const close = () => new Promise((resolve) => server.close(resolve));
  return { address: `http://127.0.0.1:${port}`, close };
}

type Options = NodeOptions<IncomingMessage>;

/** An application with a page of its own behind the routes. */
const servers: Readonly<Record<string, (options: Options) => Promise<Running>>> = {
  "node:http": (options) => {
    const routes = nodeRoutes(options);
    return listening(
      createServer((request, response) => {
        routes(request, response, (error) => response.end(error === undefined ? "own page" : "own fault"));
      }),
    );
  },
  ...Object.fromEntries(
    [express, express4].flatMap((made, index) => {
      const name = `Express ${index === 0 ? 5 : 4}`;
      const open = (before: boolean) => (options: Options) => {
        const app = made();
        if (before) app.use(made.json());
        app.use("/api", nodeRoutes(options) as never);
        app.use((_request: unknown, response: { send(text: string): void }) => response.send("own page"));
        return listening(createServer(app as never));
      };
      return [
        [name, open(false)],
        [`${name} behind its reader of bodies`, open(true)],
      ];
    }),
  ),
  Fastify: async (options) => {
    const app = fastify();
    app.addHook("onRequest", fastifyHook(options));
    app.get("/page", async () => "own page");
    const address = await app.listen({ port: 0, host: "127.0.0.1" });
    return { address, close: () => app.close() };
  },
};

describe.each(Object.entries(servers))("the routes in %s", (_name, open) => {
  let engine: Engine;
  let running: Running;
  beforeAll(async () => {
    engine = await (engines["SQLite"] as () => Promise<Engine>)();
    await createTables(engine, portier.schema);
    const options: Omit<HttpOptions, "authenticate"> = {
      portier,
      connection: engine.connection,
      base: "/api",
      limits: { maxBodyBytes: 2_000 },
    };
    running = await open({
      ...options,
      authenticate: ({ headers }) =>
        headers.authorization === undefined ? undefined : { person: headers.authorization },
    });
  });
  afterAll(async () => {
    await running?.close();
    await engine?.close();
  });
  beforeEach(() =>
    storeAll(engine, portier.schema, {
      staff: [{ id: "wren", post: "keeper" }],
      objects: [{ id: "o1", label: "old", shelf: "N1" }],
    }),
  );

  const call = (
    method: string,
    path: string,
    body?: unknown,
    headers: Record<string, string> = { authorization: "wren" },
  ) =>
    fetch(`${running.address}${path}`, {
      method,
      headers: { "content-type": "application/json", ...headers },
      ...(body === undefined ? {} : { body: JSON.stringify(body) }),
    });

  it("read, change, refuse and go on to the application's own pages", async () => {
    const list = await call("GET", "/api/records/objects?limit=5");
    expect(await list.json()).toMatchObject({ records: [{ id: "o1", label: "old" }], total: 1 });
    expect((await call("PATCH", "/api/records/objects/o1", { values: { label: "näu" } })).status).toBe(200);
    const seen = await call("GET", "/api/records/objects/o1");
    expect(await seen.json()).toMatchObject({ id: "o1", label: "näu" });
    expect(seen.headers.get("etag")).not.toBeNull();
    const refused = await call("PATCH", "/api/records/objects/o1", { values: { shelf: "N2" } });
    expect([refused.status, refused.headers.get("content-type")]).toEqual([403, "application/problem+json"]);
    expect((await call("POST", "/api/records/objects", { values: { id: "o2", label: "b" } })).status).toBe(201);
    expect((await call("DELETE", "/api/records/objects/o1")).status).toBe(403);
    expect((await call("GET", "/api/records/objects", undefined, {})).status).toBe(401);
    expect(await (await call("GET", "/page")).text()).toBe("own page");
    const head = await call("HEAD", "/api/records/objects/o1");
    expect([head.status, await head.text()]).toEqual([200, ""]);
  });

  it("take no body that is too large, and live on when somebody leaves in the middle", async () => {
    const large = await call("PATCH", "/api/records/objects/o1", { values: { label: "x".repeat(5_000) } });
    expect(large.status).toBe(413);
    await new Promise<void>((resolve) => {
      const gone = send(`${running.address}/api/records/objects/o1`, {
        method: "PATCH",
        headers: { authorization: "wren", "content-type": "application/json", "content-length": "500" },
      });
      gone.on("error", () => resolve());
      gone.on("close", () => resolve());
      gone.write('{"values":');
      setTimeout(() => gone.destroy(), 50);
    });
    expect((await call("GET", "/api/records/objects")).status).toBe(200);
  });
});
