// An embedded PostgreSQL in memory, empty. Its first files take seconds to make, so they are made once and copied from then on.
import { existsSync, mkdirSync, readFileSync, renameSync, writeFileSync } from "node:fs";
import { createRequire } from "node:module";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import { PGlite } from "@electric-sql/pglite";

const packageFile = join(dirname(createRequire(import.meta.url).resolve("@electric-sql/pglite")), "../package.json");
const { version } = JSON.parse(readFileSync(packageFile, "utf8"));
const kept = fileURLToPath(new URL(`../../node_modules/.cache/portier/pglite-${version}.tar`, import.meta.url));

export async function embeddedPostgres() {
  if (!existsSync(kept)) {
    const first = await PGlite.create();
    const files = Buffer.from(await (await first.dumpDataDir("none")).arrayBuffer());
    await first.close();
    mkdirSync(dirname(kept), { recursive: true });
    // Several may be first at once: each moves whole files to their place.
    const own = join(dirname(kept), `${process.pid}.tar`);
    writeFileSync(own, files);
    renameSync(own, kept);
  }
  return PGlite.create({ loadDataDir: new Blob([readFileSync(kept)]) });
}
