// Keeps words out that were replaced: docs/glossary.md has the ones to use. Prints each place, and ends with 1 where there is any.
import { execFileSync } from "node:child_process";
import { readFileSync } from "node:fs";
import { fileURLToPath } from "node:url";

const root = fileURLToPath(new URL("..", import.meta.url));

/** What is not to be written, and what is instead. */
const words = [
  [/\bask(er|ers)\b|\bwho asks\b|\bthe one who asks\b/i, "the current user, the subject"],
  [/\bdoubt(s|ed|ful)?\b|DoubtCode/i, "warning"],
  [/^\s*meant:|\bmeant: \{/, "ignore:"],
  [
    /\b(stranger-role|anothers-name|for-nobody|met-by-none|nothing-to-silence|two-reserves|blind-edit)\b/,
    "the code of the warning",
  ],
  [
    /\baccept(Bulk|Import|Any)\b|\.accept\("(edit|create|delete)"|\bNotAccepted\b|\bsession\.accept\b|\bAcceptance\b/,
    "checkEdit, ChangeResult",
  ],
  [/\bspeaksOf\b(?!Fields)/, "target"],
  [/\bgiv(er|ers)\b|\bgivenBy\b|\bgivable\b/i, "assigner, assignableBy, assignedBy"],
  [/\batLeast\b/, "minHolders"],
  [/\bbothWays\b/, "alsoAfter"],
  [/\bRecordEntry\b|\bportier record\b|\bportier_record\b/, "AuditEntry, portier audit"],
  [/\bmade references?\b/i, "composite reference"],
  [/\b(?<!pilot |Maritime |Harbour |South Sea |ware)house\b/i, "schema, museum"],
  [/\bmoments?\b/i, "instant, time"],
  [/\bexercised\b/i, "covered"],
  [/\bunnoticed\b/i, "survived, undetected"],
  [
    /\btoKnow\b|\bwayText\b|\beverybodysDifference\b|\bfoldMatrix\b|\bfindUnnoticed\b|\bnotExercised\b/,
    "see docs/api.txt",
  ],
  [/\bopenDatabase\b|\bmostPage\b|\bActingOptions\b/, "createDatabase, maxPageSize, Identity"],
  [/--beside\b/, "--compare"],
  [/\bworkbench\b|\bportier open\b/i, "inspector, portier inspect"],
  [/\bask_as\b|\bportier_inside\b|\bportier\.(said|asker)\b/, "set_person, portier_internal, portier.claims"],
  [/\bis there twice\b|\bknows no key\b|\bheld as such\b|\bby hand of\b/i, "duplicate, unknown key, global role"],
  [/\breckons?\b/i, "works out, costs"],
  [/\bsettled?\b/i, "resolve, decide"],
  [/\bdear\b/, "costly"],
];

/** Data of the museum, which may hold any words, and this list. */
const apart = /package-lock\.json|^examples\/(museum|mistakes)\/.*\.json$|^scripts\/(words|museum-data)\.mjs$|\.png$/;

const files = execFileSync("git", ["ls-files"], { cwd: root, encoding: "utf8" }).trim().split("\n");
let found = 0;
for (const file of files.filter((name) => !apart.test(name))) {
  for (const [index, line] of readFileSync(root + file, "utf8")
    .split("\n")
    .entries()) {
    for (const [word, instead] of words) {
      const hit = word.exec(line)?.[0];
      if (hit === undefined) continue;
      found++;
      console.error(`${file}:${index + 1}  "${hit.trim()}"; write ${instead}`);
    }
  }
}
console.log(found === 0 ? "no word that was replaced" : `${found} words to replace`);
process.exitCode = found === 0 ? 0 : 1;
