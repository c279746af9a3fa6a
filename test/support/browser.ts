import { readFileSync } from "node:fs";
import { type Browser, chromium, type Page } from "playwright-core";

/** The Chromium that the test command found; undefined where there is none, and then page tests are skipped. */
export const chromiumPath = process.env["PORTIER_CHROMIUM"];

const quiet = [
  "--no-sandbox",
  "--disable-gpu",
  "--disable-quic",
  "--no-first-run",
  "--disable-background-networking",
  "--disable-component-update",
  "--disable-sync",
];

export function launch(): Promise<Browser> {
  if (chromiumPath === undefined) throw new Error("no Chromium: set PORTIER_CHROMIUM");
  return chromium.launch({ executablePath: chromiumPath, args: quiet });
}

/** What on a page stands in the way of people by WCAG 2.1 A and AA, as axe-core finds it. */
export async function barriers(page: Page): Promise<string[]> {
  await page.evaluate(readFileSync("node_modules/axe-core/axe.min.js", "utf8"));
  return page.evaluate(async () => {
    interface Found {
      readonly violations: readonly { id: string; nodes: readonly { html: string; failureSummary: string }[] }[];
    }
    const { axe } = globalThis as unknown as { axe: { run(options: object): Promise<Found> } };
    const { violations } = await axe.run({ runOnly: ["wcag2a", "wcag2aa", "wcag21aa"] });
    return violations.map(({ id, nodes }) => `${id}: ${nodes[0]?.html} ${nodes[0]?.failureSummary}`);
  });
}
