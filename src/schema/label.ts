/**
 * What people read instead of the name of a table or a field that has no label: `insured_value` and `insuredValue` as
 * "Insured value". What is written in capitals stays: `objectURL` as "Object URL".
 */
export function labelFromName(name: string): string {
  const words = name
    .replaceAll(/(\p{Ll}|\p{N})(\p{Lu})/gu, "$1 $2")
    .split(/[\s_]+/u)
    .filter((word) => word !== "");
  const sentence = words.map((word) => (isAcronym(word) ? word.toUpperCase() : lowerFirst(word))).join(" ");
  return sentence === "" ? name : sentence.charAt(0).toUpperCase() + sentence.slice(1);
}

function isAcronym(word: string): boolean {
  return word.toLowerCase() === "id";
}

/** "Value" in `insuredValue`, but not "URL" in `objectURL`. */
function lowerFirst(word: string): string {
  return /^\p{Lu}\p{Ll}/u.test(word) ? word.charAt(0).toLowerCase() + word.slice(1) : word;
}
