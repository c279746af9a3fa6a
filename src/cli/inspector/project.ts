import { createHash } from "node:crypto";
import { existsSync, lstatSync, readdirSync, readFileSync, realpathSync } from "node:fs";
import { basename, dirname, isAbsolute, join, relative } from "node:path";
import type { Row } from "../../conditions/source.js";
import { inOrder } from "../../database/in-order.js";
import { writeWhole } from "../../directory/write-whole.js";
import { type DataFile, readRoles } from "../../document/data.js";
import { isDatabase } from "../database.js";
import { CliError } from "../io.js";
import {
  dataFiles,
  dataFolder,
  documentName,
  loadDocument,
  requestValues,
  rolesFile,
  type SessionFlags,
} from "../load.js";
import { withRecords } from "../records.js";

/** A file that the inspector shows and may write. */
export interface OpenedFile {
  /** Its name without the folder. */
  readonly name: string;
  /** Empty for a file that is not there yet. */
  readonly text: string;
  /** A digest of what is in the file: who saves says which one they have seen. */
  readonly version: string;
}

/** All that the page needs: it works everything out itself. */
export interface ProjectState {
  readonly document: OpenedFile;
  /** Files of expectations; the first is where new ones go. */
  readonly expectations: readonly OpenedFile[];
  /** The records: as the texts of files, or, of a database, as they were read. */
  readonly data:
    | { readonly kind: "files"; readonly files: readonly DataFile[] }
    | { readonly kind: "records"; readonly tables: Readonly<Record<string, readonly Row[]>> }
    | { readonly kind: "none" };
  /** The date or instant, and request values, that were given on the command line. */
  readonly at: string | undefined;
  readonly request: Readonly<Record<string, string>>;
}

export interface Project {
  read(): Promise<ProjectState>;
  /** The digests of the files, by name: they may have been changed by others. */
  versions(): Readonly<Record<string, string>>;
  /**
   * Writes one of the files, whole or not at all; undefined where it is not any more as it was seen, or is none of them.
   */
  save(name: string, text: string, seen: string): Promise<OpenedFile | undefined>;
}

interface ProjectOptions extends SessionFlags {
  readonly data?: string;
}

export function openProject(file: string, options: ProjectOptions): Project {
  const folder = dirname(file);
  const own = documentName(file);
  // Expectations in modules are run, and cannot be added to.
  const compare = existsSync(folder)
    ? readdirSync(folder).filter((name) => name.startsWith(`${own}.`) && /\.expect\.(?:ya?ml|json)$/.test(name))
    : [];
  const standing = `${own}.expect.yaml`;
  const names = [standing, ...compare.filter((name) => name !== standing).sort()];
  const writable = new Set([basename(file), ...names]);
  const openFile = (name: string): OpenedFile => {
    const text = textOf(join(folder, name));
    return { name, text: text ?? "", version: versionOf(text) };
  };
  // One after the other: of two who save the same version, the second one sees what the first has left.
  const turn = inOrder();
  return {
    read: async () => {
      if (textOf(file) === undefined) throw new CliError(`cannot read ${file}`);
      return {
        document: openFile(basename(file)),
        expectations: names.map(openFile),
        data: await readData(file, options.data),
        at: options.at,
        request: requestValues(options),
      };
    },
    versions: () => Object.fromEntries([...writable].map((name) => [name, versionOf(textOf(join(folder, name)))])),
    save: (name, text, seen) =>
      turn(async () => {
        const place = join(folder, name);
        if (!writable.has(name) || versionOf(textOf(place)) !== seen) return undefined;
        mustBeInside(folder, place);
        await writeWhole(place, text);
        return { name, text, version: versionOf(text) };
      }),
  };
}

async function readData(file: string, named: string | undefined): Promise<ProjectState["data"]> {
  if (named !== undefined && isDatabase(named)) {
    const { portier } = loadDocument(file);
    return withRecords(portier, file, named, (data) => ({
      kind: "records",
      tables: Object.fromEntries(data?.tables ?? []),
    }));
  }
  const folder = dataFolder(file, named);
  if (folder === undefined) return { kind: "none" };
  const files = dataFiles(folder).map((one) => ({ ...one, file: basename(one.file) }));
  const roles = textOf(rolesFile(file));
  const held = roles === undefined ? [] : readRoles({ file: basename(rolesFile(file)), text: roles });
  return { kind: "files", files: [...files, ...held] };
}

/** A link may lead anywhere: what is written stays in the folder that was opened. */
function mustBeInside(folder: string, place: string): void {
  const isLink = lstatSync(place, { throwIfNoEntry: false })?.isSymbolicLink() ?? false;
  if (!isLink) return;
  const real = existsSync(place) ? relative(realpathSync(folder), realpathSync(place)) : "..";
  if (real.startsWith("..") || isAbsolute(real)) {
    throw new CliError(`${place} is a link that leads out of its folder, and is not written through`);
  }
}

function textOf(file: string): string | undefined {
  try {
    return readFileSync(file, "utf8");
  } catch {
    return undefined;
  }
}

function versionOf(text: string | undefined): string {
  return text === undefined ? "none" : createHash("sha256").update(text).digest("hex").slice(0, 16);
}
