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
 * `portier show objects --as s-003`. `operandsOf`: those of its words that are no options and no values of options.
 *
 * @throws CliError where there are several, or none and nothing else stands in its place.
 */
export function withRulesFile(
  commands: readonly CliCommand[],
  words: readonly string[],
  io: Io,
  operandsOf: (command: CliCommand, words: readonly string[]) => readonly string[] | undefined,
): readonly string[] {
  const [name = "", ...rest] = words;
  const command = commands.find(({ usage }) => usage.startsWith(`${name} <file>`));
  if (io.files === undefined || name === "" || command === undefined) return words;
  if (words.some((word) => word === "--help" || word === "-h")) return words;
  const operands = operandsOf(command, rest);
  if (operands === undefined) return words;
  const [first] = operands;
  if (first !== undefined && looksLikeFile(first)) return words;
  const [file, ...others] = rulesHere(io);
  if (others.length > 0) throw new CliError(`name one of the rules files here: ${[file, ...others].join(", ")}`);
  if (file !== undefined) return [name, file, ...rest];
  if (first !== undefined) return words;
  throw new CliError("there is no rules file here (NAME.portier.yaml): name one, or write one with portier import");
}
