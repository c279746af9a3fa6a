import { formatMembershipPath } from "../explain/membership-paths.js";
import { endingSoon } from "../people/ending.js";
import { keptOf } from "../people/kept-state.js";
import { formatInstant, instantOf } from "../schema/instant.js";
import type { Table } from "../schema/schema.js";
import { timestampOf } from "../schema/types/timestamp.js";
import type { Portier } from "../session/portier.js";
import { type Member, membershipNames, membersOf } from "../verify/members.js";
import { personViewers, type Viewer } from "../verify/viewers.js";
import { columns } from "./columns.js";
import type { CliCommand } from "./command.js";
import { databaseAddresses, isDatabase, withDatabase } from "./database.js";
import { databaseViewers } from "./database-records.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { dataFolder, loadData, loadDocument, rolesFile, type SessionFlags, sessionOptions } from "./load.js";
import { palette } from "./paint.js";
import { withStore } from "./store.js";

interface MembersOptions extends SessionFlags {
  readonly data?: string;
  readonly ending?: string;
  readonly format: "text" | "json";
}

export const membersCommand: CliCommand<MembersOptions> = {
  usage: "members <file> [name]",
  summary: "List who holds a role or is in a group, and through what; without a name, how many are in each",
  declare: (command) => {
    command.option(
      "--data <folder or database>",
      `records as TABLE.json or TABLE.csv (default: the folder data beside FILE), or ${databaseAddresses}`,
    );
    command.option("--ending <days>", "list what was assigned and ends within this number of days");
  },
  run: ([file = "", name], options, io) => runMembers(file, name, options, io),
};

function runMembers(
  file: string,
  name: string | undefined,
  options: MembersOptions,
  io: Io,
): ExitCode | Promise<ExitCode> {
  const { portier } = loadDocument(file);
  const { people } = portier.schema;
  if (people === undefined) throw new CliError("the document names no people table: nobody is a member of anything");
  const print = (viewers: readonly Viewer[]): ExitCode => {
    const persons = viewers.filter(({ kind }) => kind === "person");
    if (name === undefined) printAll(portier, persons, options, io);
    else printMembers(portier, name, membersOf(portier, persons, name), persons.length, options, io);
    return 0;
  };
  if (options.ending !== undefined) return runEnding(file, options, io);
  if (options.data !== undefined && isDatabase(options.data)) {
    return withDatabase(options.data, async ({ connection }) =>
      print(await databaseViewers(portier, connection, sessionOptions(portier, options, undefined, io))),
    );
  }
  const folder = dataFolder(file, options.data);
  const data = folder === undefined ? undefined : loadData(portier, folder, rolesFile(file));
  const rows = data?.tables.get(people.table.name);
  if (data === undefined || rows === undefined) {
    throw new CliError(`members needs the people: name a folder that has ${people.table.name}.json with --data`);
  }
  const shared = sessionOptions(portier, options, data.source, io);
  return print(personViewers(portier, rows, { ...shared, source: data.source }));
}

/** What ends soon, with the names of those whom it is about. */
function runEnding(file: string, options: MembersOptions, io: Io): Promise<ExitCode> {
  const days = Number(options.ending);
  if (!(days > 0)) throw new CliError(`--ending takes a number of days, not "${options.ending}"`);
  return withStore(file, options, "read", async ({ portier, store, nameOf }): Promise<ExitCode> => {
    const { assignments, delegations } = keptOf(portier);
    const now = instantOf(portier.schema, "at", options.at) ?? (timestampOf(new Date()) as string);
    const ending = await store.read((source) => {
      const rows = ({ name }: Table) => [...(source.all?.(name) ?? [])];
      return endingSoon({ assignments: rows(assignments), delegations: rows(delegations) }, now, days);
    });
    if (options.format === "json") {
      io.out(`${JSON.stringify({ ending }, null, 2)}\n`);
      return 0;
    }
    const paint = palette(io);
    const body: string[][] = [];
    for (const { until, person, what, assignedBy } of ending) {
      const assigner = assignedBy === undefined ? "" : await nameOf(assignedBy);
      body.push([formatInstant(portier.schema, until), await nameOf(person), what, assigner]);
    }
    const headings = ["ends", "person", "what", "assigned by"].map(paint.quiet);
    io.out(
      body.length === 0 ? `Nothing that was assigned ends within ${days} days.\n` : columns(headings, body, io.width),
    );
    return 0;
  });
}

function printMembers(
  { schema }: Portier,
  name: string,
  members: readonly Member[],
  of: number,
  { format }: MembersOptions,
  io: Io,
): void {
  if (format === "json") {
    const found = members.map(({ person: { id, name: called }, isCertain, ways }) => ({
      person: id,
      name: called,
      isCertain,
      ways,
    }));
    io.out(`${JSON.stringify({ name, members: found }, null, 2)}\n`);
    return;
  }
  const paint = palette(io);
  const certain = members.filter(({ isCertain }) => isCertain).length;
  io.out(`${paint.heading(name)}: ${certain} of ${of} people\n\n`);
  if (members.length === 0) return;
  const body = members.flatMap(({ person, isCertain, ways }) => {
    const texts = isCertain
      ? ways.map((way) => formatMembershipPath(schema, way))
      : [paint.quiet("not known: their record leaves it open")];
    return texts.map((text, index) => (index === 0 ? [person.id, person.name, text] : ["", "", text]));
  });
  io.out(columns([paint.quiet("person"), paint.quiet("name"), paint.quiet("through")], body, io.width));
}

function printAll(portier: Portier, persons: readonly Viewer[], { format }: MembersOptions, io: Io): void {
  const counted = membershipNames(portier).map((name) => {
    const members = membersOf(portier, persons, name);
    return { name, people: members.filter(({ isCertain }) => isCertain).map(({ person }) => person) };
  });
  if (format === "json") {
    const names = counted.map(({ name, people }) => ({ name, people: people.map(({ id }) => id) }));
    io.out(`${JSON.stringify({ memberships: names }, null, 2)}\n`);
    return;
  }
  const paint = palette(io);
  const body = counted.map(({ name, people }) => [
    name,
    String(people.length),
    people.map((person) => person.name).join(", "),
  ]);
  io.out(columns([paint.quiet("role or group"), paint.quiet("people"), paint.quiet("who")], body, io.width));
}
