// A process that gives and takes a role in a JSON file for as long as it is let; it is killed in the middle.
import { jsonFileStore } from "../../dist/directory/index.js";
import { compile } from "../../dist/index.js";
import { administration } from "../../dist/people/index.js";

const [file, document, data] = process.argv.slice(2);
const portier = compile(JSON.parse(document));
const store = jsonFileStore(portier, file, { source: portier.source(JSON.parse(data)) });
const assigner = administration(portier, store).as("p1");
process.stdout.write("ready\n");
for (let round = 0; ; round++) {
  const change = {
    kind: round % 2 === 0 ? "assign" : "revoke",
    person: "p3",
    role: "guide",
    reason: "x".repeat(round % 7),
  };
  await assigner.make(change, { confirmed: ["gains-assignable-roles guide"] });
}
