import { compile, type Row } from "portier";
import { createDatabase } from "portier/database";
import { administration, databaseStore, memoryStore, type RoleStore, storeMigration } from "portier/people";
import { describe, expect, it } from "vitest";
import { createTables, engines, storeAll } from "../support/engines.js";

/** Persons and records with keys of every kind: numbers, texts with signs in them, several fields. */
const kinds = [
  ["numbers, and rooms of one field", "integer", [1, 2], ["id"]],
  ["texts with signs in them, and rooms of several fields", "text", ["a/b%' \"", "é\\"], ["floor", "no"]],
] as const;

const documentOf = (key: "integer" | "text", roomKey: readonly string[]) =>
  compile({
    portier: 1,
    people: { table: "staff", active: "active", assignments: true },
    roles: {
      boss: { assignableBy: "boss", minHolders: 1 },
      temp: { assignableBy: "boss" },
      host: { scope: "rooms", assignableBy: ["boss"], minHolders: 1 },
    },
    tables: {
      staff: {
        key: "id",
        fields: { id: key, active: "boolean" },
        rules: { all: { to: "signed-in", permit: { view: "all" } } },
      },
      rooms: {
        key: roomKey.length === 1 ? (roomKey[0] as string) : roomKey,
        fields: { ...Object.fromEntries(roomKey.map((name) => [name, "text"])), title: "text" },
        rules: {
          all: { to: "signed-in", permit: { view: "all" } },
          hosts: { to: "host of this", permit: { edit: ["title"] } },
        },
      },
    },
  });

describe.each(kinds)("people whose keys are %s", (_what, type, ids, roomKey) => {
  const portier = documentOf(type, roomKey);
  const staff = ids.map((id) => ({ id, active: true }));
  const rooms: Row[] = [{ ...Object.fromEntries(roomKey.map((name) => [name, "r/1"])), title: "Hall" }];
  const room = roomKey.length === 1 ? "r/1" : "r%2F1/r%2F1";
  const [boss, temp] = ids.map(String) as [string, string];

  const stores: Readonly<Record<string, () => Promise<{ store: RoleStore; close: () => Promise<unknown> }>>> = {
    memory: async () => ({
      store: memoryStore(portier, { source: portier.source({ staff, rooms }) }),
      close: async () => {},
    }),
    ...Object.fromEntries(
      Object.entries(engines).map(([name, open]) => [
        name,
        async () => {
          const engine = await open();
          await createTables(engine, portier.schema);
          for (const statement of storeMigration(portier, engine.dialect)) await engine.run(statement);
          await storeAll(engine, portier.schema, { staff, rooms });
          const asked = createDatabase(portier, engine.connection).as(ids[0]);
          expect(await asked.ask((session) => session.person)).toBe(boss);
          return { store: databaseStore(portier, engine.connection), close: engine.close };
        },
      ]),
    ),
  };

  it.each(Object.entries(stores))("are given roles in %s", async (_name, open) => {
    const { store, close } = await open();
    const people = administration(portier, store);
    const assigner = people.as(boss);
    const roles = (person: string, actedBy?: string) =>
      store.read((source) => portier.session({ person, source, ...(actedBy && { actedBy }) }).roles);
    const code = async (outcome: ReturnType<typeof assigner.make>) => {
      const judged = await outcome;
      return judged.accepted ? "accepted" : (judged.problems[0]?.code ?? judged.reason);
    };
    expect(await code(people.bootstrap({ person: boss, role: "boss" }))).toBe("accepted");
    expect(await code(assigner.assign({ person: temp, role: "temp" }))).toBe("accepted");
    expect(await code(assigner.assign({ person: temp, role: "host", on: room }))).toBe("accepted");
    expect(await roles(temp)).toEqual([`host of ${room}`, "temp"]);
    const mayEdit = await store.read((source) => {
      const session = portier.session({ person: temp, source });
      return session.may("edit", "rooms", rooms[0] as Row, "title");
    });
    expect(mayEdit).toBe(true);
    expect(await code(assigner.revoke({ person: temp, role: "host", on: room }))).toBe("last-holders");
    const confirmed = ["gains-assignable-roles boss temp host", "gains-revoking-your-roles boss"];
    expect(await code(assigner.delegate({ to: temp }, { confirmed }))).toBe("accepted");
    expect(await roles(boss, temp)).toEqual(["boss"]);
    expect(await code(people.as({ person: boss, actedBy: temp }).assign({ person: temp, role: "boss" }))).toBe(
      "not-while-acting",
    );
    expect(await code(assigner.revoke({ person: boss, role: "boss" }))).toBe("last-holders");
    expect((await store.auditLog({ person: temp })).map(({ kind, by }) => `${kind} ${by}`)).toEqual([
      `delegate ${boss}`,
      `assign ${boss}`,
      `assign ${boss}`,
    ]);
    await close();
  });
});
