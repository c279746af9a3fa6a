import { stringify } from "yaml";
import { proposeExpectations } from "../../verify/expectations/propose.js";
import { askedOf, everybodyUnder, type Testing } from "./testing.js";

/** What holds now as a file of expectations; nothing is written over. */
export function recorded(testing: Testing): string {
  const { portier } = testing;
  const groups = proposeExpectations(portier, everybodyUnder(testing, portier), askedOf(testing, portier).records);
  const parts = groups.map(({ persons: [first = "", ...more], proposals }) => {
    const alike = more.length === 0 ? "" : `, and the same for ${more.join(", ")}`;
    return `  # ${first}${alike}\n${proposals.map((one) => `  - ${flow(one)}`).join("\n")}\n`;
  });
  return `# What held when this was recorded. Read it: what is wrong is taken out, and the rules are mended.\nexpectations:\n${parts.join("\n")}`;
}

function flow(value: object): string {
  return stringify(value, { collectionStyle: "flow", lineWidth: 0 }).trim();
}
