import type { CliCommand } from "./command.js";
import { CliError, type Io } from "./io.js";

const isRulesFile = (name: string) => /\.portier\.(?:ya?ml|json)$/i.test(name);
/** `-` is what comes from another command. */
const looksLikeFile = (word: string) => word === "-" || /\.(?:ya?ml|json)$/i.test(word);

/** The rules files of the folder in which a command is called. */
export function rulesHere({ files }: Io): readonly string[] {
  return (files?.() ?? []).filter(isRulesFile).sort();
}

/**
 * The words of a call, with the rules file of this folder where the command takes one and none is named: `portier lint`,
 * `portier show objects --as s-003`.
 *
 * @throws CliError where there are several, or none and nothing else stands in its place.
 */
export function withRulesFile(commands: readonly CliCommand[], words: readonly string[], io: Io): readonly string[] {
  const [name = "", first, ...more] = words;
  const command = commands.find(({ usage }) => usage.split(" ")[0] === name);
  if (io.files === undefined || command === undefined || !command.usage.startsWith(`${name} <file>`)) return words;
  if (words.some((word) => word === "--help" || word === "-h")) return words;
  const isOption = first?.startsWith("-") === true && first !== "-";
  // Behind options it may be named as well, if it is not the value of one.
  const isNamedLater = isOption && more.some((word, at) => looksLikeFile(word) && !words[at + 1]?.startsWith("--"));
  if ((first !== undefined && !isOption && looksLikeFile(first)) || isNamedLater) return words;
  const [file, ...others] = rulesHere(io);
  if (others.length > 0) throw new CliError(`name one of the rules files here: ${[file, ...others].join(", ")}`);
  if (file !== undefined) return [name, file, ...words.slice(1)];
  if (first !== undefined && !isOption) return words;
  throw new CliError("there is no rules file here (NAME.portier.yaml): name one, or write one with portier import");
}
