import { readdirSync, readFileSync } from "node:fs";
import { dirname, join, resolve } from "node:path";
import { pathToFileURL } from "node:url";
import { parsePlaced } from "../../document/parse-document.js";
import { type Locate, PortierError } from "../../schema/problems.js";
import { isMapping } from "../../schema/reader.js";
import type { Portier } from "../../session/portier.js";
import type { Expectation } from "../../verify/expectations/expectation.js";
import { readExpectations } from "../../verify/expectations/read-expectations.js";
import { CliError } from "../io.js";
import { documentName } from "../load.js";

/** A file of expectations as it was written, to be read against one document or another. */
export interface ExpectationFile {
  readonly file: string;
  readonly value: unknown;
  readonly locate: Locate;
}

const endings = /\.expect\.(?:ya?ml|json|m?js|m?ts)$/;

/** The expectations beside a document: `museum.expect.yaml`, `museum.loans.expect.ts` for `museum.portier.yaml`. */
export function expectationsBeside(file: string): string[] {
  const name = documentName(file);
  const found = readdirSync(dirname(file))
    .filter((one) => one.startsWith(`${name}.`) && endings.test(one))
    .sort();
  if (found.length > 0) return found.map((one) => join(dirname(file), one));
  throw new CliError(`there is no ${join(dirname(file), `${name}.expect.yaml`)}: name a file of expectations`);
}

/** Whether a file is a module, which is run to be read. */
export function isModule(file: string): boolean {
  return /\.m?[jt]s$/.test(file);
}

/**
 * Reads files of expectations. A module exports them as its default: `{ expectations: [...] }`, as `expectations` makes
 * it; then the answer is a promise.
 */
export function openExpectations(files: readonly string[]): ExpectationFile[] | Promise<ExpectationFile[]> {
  if (files.some(isModule))
    return Promise.all(files.map((file) => (isModule(file) ? runModule(file) : readText(file))));
  return files.map(readText);
}

function readText(file: string): ExpectationFile {
  let text: string;
  try {
    text = readFileSync(file, "utf8");
  } catch {
    throw new CliError(`cannot read ${file}`);
  }
  return { file, ...parsePlaced(text, { file }) };
}

/** Each run reads the file as it is then: a watched file changes. */
let runs = 0;

async function runModule(file: string): Promise<ExpectationFile> {
  try {
    const module = (await import(`${pathToFileURL(resolve(file)).href}?run=${runs++}`)) as { default?: unknown };
    return { file, value: module.default, locate: () => ({ file }) };
  } catch (error) {
    const { code, message } = error as { code?: string; message: string };
    const hint = code === "ERR_UNKNOWN_FILE_EXTENSION" ? "; this Node runs no TypeScript: use 22.18 or later" : "";
    throw new CliError(`cannot run ${file}: ${message}${hint}`);
  }
}

/** Expectations checked against a document. */
export function expectationsOf(portier: Portier, { value, locate }: ExpectationFile): Expectation[] {
  return readExpectations(portier, value, locate);
}

/** Expectations as they can be asked of a changed document; a rule that is gone is named by none. */
export function knownExpectations(portier: Portier, { value, locate }: ExpectationFile): readonly Expectation[] {
  try {
    return readExpectations(portier, value, locate);
  } catch (error) {
    if (!(error instanceof PortierError) || !isMapping(value) || !Array.isArray(value["expectations"])) throw error;
    const lost = new Set(error.problems.map(({ path }) => path[1]));
    const left = value["expectations"].map((one, index) => (lost.has(index) ? { ...one, by: undefined } : one));
    return readExpectations(portier, { expectations: left }, locate);
  }
}
