import { existsSync, mkdirSync, readFileSync, renameSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import type { PGlite } from "@electric-sql/pglite";

/**
 * An empty PostgreSQL in this process. Its first files take seconds to make: they are kept in `node_modules/.cache`, beside the
 * driver, and copied from then on. Where nothing can be written, they are made each time.
 */
export async function emptyPostgres(driver: typeof PGlite): Promise<PGlite> {
  const kept = placeOfFiles();
  if (kept === undefined) return driver.create();
  if (existsSync(kept)) return driver.create({ loadDataDir: new Blob([readFileSync(kept)]) });
  const database = await driver.create();
  try {
    const files = Buffer.from(await (await database.dumpDataDir("none")).arrayBuffer());
    mkdirSync(dirname(kept), { recursive: true });
    // Several may be first at once: each moves whole files to their place.
    const own = `${kept}.${process.pid}`;
    writeFileSync(own, files);
    renameSync(own, kept);
  } catch {
    // A place that cannot be written to is no reason not to go on.
  }
  return database;
}

function placeOfFiles(): string | undefined {
  const entry = fileURLToPath(import.meta.resolve("@electric-sql/pglite"));
  const modules = entry.slice(0, entry.lastIndexOf("node_modules") + "node_modules".length);
  const manifest = join(modules, "@electric-sql/pglite/package.json");
  if (!existsSync(manifest)) return undefined;
  const { version } = JSON.parse(readFileSync(manifest, "utf8")) as { readonly version: string };
  return join(modules, ".cache/portier", `pglite-${version}.tar`);
}
