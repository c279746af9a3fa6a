// A process that has judged a change of a JSON file, and writes it after a while in which it does nothing else: the test puts
// it to sleep there.
import { jsonFileStore } from "../../dist/directory/index.js";
import { compile } from "../../dist/index.js";
import { administration } from "../../dist/people/index.js";

const [file, document, data] = process.argv.slice(2);
const portier = compile(JSON.parse(document));
const store = jsonFileStore(portier, file, { source: portier.source(JSON.parse(data)) });
const pausing = {
  ...store,
  change: (work) =>
    store.change((inside) =>
      work({
        read: (question) => inside.read(question),
        write: (writes, entries) => {
          process.stdout.write("judged\n");
          const end = Date.now() + 1_000;
          while (Date.now() < end);
          return inside.write(writes, entries);
        },
      }),
    ),
};
const assigner = administration(portier, pausing).as("p1");
await assigner.make({ kind: "assign", person: "p3", role: "guide" }, { confirmed: ["gains-assignable-roles guide"] });
