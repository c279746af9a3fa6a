import { availableParallelism } from "node:os";
import { fileURLToPath } from "node:url";
import { defineConfig } from "vitest/config";

const src = (path: string) => fileURLToPath(new URL(`./src/${path}`, import.meta.url));

// Tests import the package by its public names; the sources stand in for the build.
export default defineConfig({
  resolve: {
    alias: [
      { find: /^portier$/, replacement: src("index.ts") },
      {
        find: /^portier\/(compiled|database|directory|document|explain|functions|http|messages|people|ranges|report|snapshot|sql|tooling|verify|workbook)$/,
        replacement: src("$1/index.ts"),
      },
      { find: /^portier\/snapshot\/small$/, replacement: src("snapshot/small.ts") },
      { find: /^portier\/tokens$/, replacement: src("directory/tokens.ts") },
      {
        find: /^portier\/(drizzle|node|hono|kysely|mysql2|pg|pglite|react|sqlite|vitest)$/,
        replacement: src("adapters/$1.ts"),
      },
    ],
  },
  test: {
    include: ["{test,inspector/test,examples/*/test}/**/*.test.ts"],
    setupFiles: ["test/support/runs.ts"],
    // Pages are asked again until they are there: on a busy machine that takes a while.
    expect: { poll: { timeout: 60_000 } },
    // A third of what tests do is waiting for a database or a browser: two more than there are processors.
    maxWorkers: availableParallelism() + 2,
    // Worlds that are made at random hold bad data on purpose, and thousands of sessions say so.
    onConsoleLog: (log) => !log.startsWith("Portier, bad data"),
    // Files of a worker share the modules that they load: a fifth of the time was loading them again for each.
    isolate: false,
    testTimeout: 300_000,
    hookTimeout: 180_000,
  },
});
