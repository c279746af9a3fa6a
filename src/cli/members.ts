import type { Portier } from "../session/portier.js";
import { type Member, membershipNames, membersOf } from "../verify/members.js";
import { personViewers, type Viewer } from "../verify/viewers.js";
import { columns } from "./columns.js";
import type { CliCommand } from "./command.js";
import { databaseAddresses, isDatabase, withDatabase } from "./database.js";
import { databaseViewers } from "./database-records.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { dataFolder, loadData, loadDocument, type SessionFlags, sessionOptions } from "./load.js";
import { palette } from "./paint.js";

interface MembersOptions extends SessionFlags {
  readonly data?: string;
  readonly format: "text" | "json";
}

export const membersCommand: CliCommand = {
  usage: "members <file> [name]",
  summary: "who holds a role or is in a group, and through what; without a name, how many are in each",
  declare: (command) => {
    command.option(
      "--data <folder or database>",
      `records as TABLE.json (default: the folder data beside FILE), or ${databaseAddresses}`,
    );
  },
  run: ([file = "", name], options, io) => runMembers(file, name, options as unknown as MembersOptions, io),
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
    else printMembers(name, membersOf(portier, persons, name), persons.length, options, io);
    return 0;
  };
  if (options.data !== undefined && isDatabase(options.data)) {
    return withDatabase(options.data, async ({ connection }) =>
      print(await databaseViewers(portier, connection, sessionOptions(options, undefined, io))),
    );
  }
  const folder = dataFolder(file, options.data);
  const data = folder === undefined ? undefined : loadData(portier, folder);
  const rows = data?.tables.get(people.table.name);
  if (data === undefined || rows === undefined) {
    throw new CliError(`members needs the people: name a folder that has ${people.table.name}.json with --data`);
  }
  const shared = sessionOptions(options, data.source, io);
  return print(personViewers(portier, rows, { ...shared, source: data.source }));
}

function printMembers(name: string, members: readonly Member[], of: number, { format }: MembersOptions, io: Io): void {
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
    const texts = isCertain ? ways.map(wayText) : [paint.quiet("not known: their record leaves it open")];
    return texts.map((text, index) => (index === 0 ? [person.id, person.name, text] : ["", "", text]));
  });
  io.out(columns([paint.quiet("person"), paint.quiet("name"), paint.quiet("through")], body, io.width));
}

/** `keeper through head, given in post`: from the nearest name to what gives it. */
function wayText({ through, source, on }: Member["ways"][number]): string {
  const names = through.length === 0 ? [] : [through.join(" through ")];
  const given = source === undefined ? [] : [`given in ${source}`];
  const record = on === undefined ? "" : `${on}: `;
  return `${record}${[...names, ...given].join(", ")}`;
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
