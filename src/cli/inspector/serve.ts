import { randomBytes } from "node:crypto";
import { readdirSync, readFileSync } from "node:fs";
import { createServer, type IncomingMessage, type ServerResponse } from "node:http";
import type { AddressInfo } from "node:net";
import { extname } from "node:path";
import { fileURLToPath } from "node:url";
import { CliError } from "../io.js";
import type { Project } from "./project.js";

/** Where the build puts the pages, beside the command line. */
const pages = fileURLToPath(new URL("../../inspector/", import.meta.url));

const types: Readonly<Record<string, string>> = {
  ".html": "text/html; charset=utf-8",
  ".js": "text/javascript",
  ".css": "text/css",
};

/** Everything is from here; styles may be set on elements, as the component library does. */
const headers: Readonly<Record<string, string>> = {
  "content-security-policy":
    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'",
  "cache-control": "no-store",
  // The address is the key: it is not told to anybody.
  "referrer-policy": "no-referrer",
  "x-content-type-options": "nosniff",
};

/** Bytes of a file that is saved at most. */
const largestText = 4_194_304;

export interface Served {
  readonly address: string;
  close(): void;
  /** Resolves when it has ended. */
  readonly closed: Promise<void>;
}

/**
 * Serves the inspector on this machine alone, under a path that cannot be guessed. Requests that name another host (as a
 * page elsewhere could make a browser do) or another origin are refused.
 */
export async function serveInspector(project: Project, port: number): Promise<Served> {
  const files = readPages();
  const key = randomBytes(16).toString("hex");
  // Longer than a browser keeps a connection that rests: it never sends into one that is just being closed.
  const server = createServer({ keepAliveTimeout: 65_000 }, (request, response) => {
    const { port: own } = server.address() as AddressInfo;
    answer(request, own).catch((error) => send(response, 500, { title: String((error as Error).message) }));

    async function answer({ url = "/", method = "GET", headers: sent }: IncomingMessage, at: number): Promise<void> {
      const hosts = [`127.0.0.1:${at}`, `localhost:${at}`];
      const isOwn = sent.origin === undefined || hosts.some((host) => sent.origin === `http://${host}`);
      const path = url.split("?")[0] ?? "";
      if (!hosts.includes(sent.host ?? "") || !isOwn || !path.startsWith(`/${key}/`)) {
        return send(response, 404, { title: "There is nothing here" });
      }
      const name = path.slice(key.length + 2);
      if (name === "api/project" && method === "GET") return send(response, 200, await project.read());
      if (name === "api/versions" && method === "GET") return send(response, 200, project.versions());
      if (name === "api/file" && method === "PUT") return save(request, response, project);
      const page = name === "" ? "index.html" : name;
      const file = files.get(page);
      if (file === undefined || method !== "GET") return send(response, 404, { title: "There is nothing here" });
      response.writeHead(200, {
        ...headers,
        "content-type": types[extname(page)] ?? "application/octet-stream",
      });
      response.end(file);
      return undefined;
    }
  });
  await new Promise<void>((resolve, reject) => {
    server.once("error", (error) => reject(new CliError(`cannot listen on port ${port}: ${error.message}`)));
    server.listen(port, "127.0.0.1", resolve);
  });
  const closed = new Promise<void>((resolve) => server.once("close", resolve));
  return {
    address: `http://127.0.0.1:${(server.address() as AddressInfo).port}/${key}/`,
    close: () => {
      server.close();
      server.closeAllConnections();
    },
    closed,
  };
}

/** The pages as they were built: nothing else can be asked for. */
function readPages(): ReadonlyMap<string, Buffer> {
  try {
    const names = readdirSync(pages, { recursive: true, withFileTypes: true }).filter((entry) => entry.isFile());
    return new Map(
      names.map(({ parentPath, name }) => {
        const file = `${parentPath.replace(/\/?$/, "/")}${name}`;
        return [file.slice(pages.length), readFileSync(file)];
      }),
    );
  } catch {
    throw new CliError("the inspector's pages are not there: build the package (npm run build)");
  }
}

async function save(request: IncomingMessage, response: ServerResponse, project: Project): Promise<void> {
  const body = await readBody(request);
  if (body === undefined) return send(response, 413, { title: `A file has ${largestText} bytes at most` });
  const { name, text, version } = body;
  if (typeof name !== "string" || typeof text !== "string" || typeof version !== "string") {
    return send(response, 400, { title: "Say which file, its text, and the version that was seen" });
  }
  const saved = await project.save(name, text, version);
  if (saved === undefined)
    return send(response, 409, { title: `${name} was changed by somebody else, and is as it was` });
  return send(response, 200, saved);
}

async function readBody(request: IncomingMessage): Promise<Readonly<Record<string, unknown>> | undefined> {
  const parts: Buffer[] = [];
  let size = 0;
  for await (const part of request as AsyncIterable<Buffer>) {
    size += part.length;
    if (size > largestText) return undefined;
    parts.push(part);
  }
  try {
    const value: unknown = JSON.parse(Buffer.concat(parts).toString("utf8"));
    return typeof value === "object" && value !== null ? (value as Record<string, unknown>) : {};
  } catch {
    return {};
  }
}

function send(response: ServerResponse, status: number, body: object): void {
  response.writeHead(status, { ...headers, "content-type": "application/json" });
  response.end(JSON.stringify(body));
}
