import { compile, type UserMessages } from "portier";
import { createDatabase } from "portier/database";
import { accessHandler } from "portier/http";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { createTables, type Engine, engines } from "../support/engines.js";

const portier = compile({
  portier: 1,
  tables: {
    shelves: { key: "id", fields: { id: "text" }, rules: { open: { to: "anyone", permit: { list: "all" } } } },
    objects: {
      key: "id",
      fields: {
        id: "text",
        title: "text",
        count: { type: "integer", optional: true },
        shelf: { reference: "shelves", optional: true },
        value: { type: "decimal", optional: true },
      },
      rules: {
        open: {
          to: "anyone",
          permit: { view: "all", create: "all", edit: ["title", "count", "shelf"], import: "all" },
        },
        noted: { where: "title = 'Bell'", deny: { edit: ["title"] }, note: "The bell keeps its name." },
      },
    },
  },
});

const german: UserMessages = {
  actionRefused: (action) => `Das dürfen Sie nicht (${action}).`,
  fieldRefused: (label) => `${label} dürfen Sie nicht ändern.`,
  wrongValue: (type) => `Das ist kein Wert (${type}).`,
  valueMissing: "Geben Sie einen Wert ein.",
  textNotStorable: "Das kann nicht gespeichert werden.",
  noSuchField: "Dieses Feld gibt es nicht.",
  noSuchRecord: "Diesen Eintrag gibt es nicht.",
  keyTaken: "Dieser Schlüssel kann nicht verwendet werden.",
  keyTakenByLine: "Eine frühere Zeile hat denselben Schlüssel.",
};

const stored = { id: "o-1", title: "Lamp", count: 1, shelf: null, value: null };
const source = portier.source({ objects: [stored], shelves: [{ id: "s-1" }] });

/** What those are told that say more than one thing. */
const given: Partial<Record<keyof UserMessages, string>> = {
  wrongValue: "integer",
  actionRefused: "delete",
  fieldRefused: "Value",
};

/** Every way in which a change is refused, with what is read then in English. */
const cases: [key: keyof UserMessages, says: string, change: (messages?: Partial<UserMessages>) => unknown][] = (
  [
    ["actionRefused", "You may not delete this.", (session) => session.checkDelete("objects", stored)],
    ["fieldRefused", 'You may not set "Value".', (session) => session.checkEdit("objects", stored, { value: "2" })],
    ["wrongValue", "Enter a whole number.", (session) => session.checkEdit("objects", stored, { count: "x" })],
    ["valueMissing", "Enter a value.", (session) => session.checkEdit("objects", stored, { title: null })],
    [
      "textNotStorable",
      "This contains a character that cannot be stored.",
      (session) => session.checkEdit("objects", stored, { title: "a\u0000" }),
    ],
    ["noSuchField", "There is no such field.", (session) => session.checkEdit("objects", stored, { colour: "red" })],
    ["noSuchRecord", "There is no such record.", (session) => session.checkEdit("objects", stored, { shelf: "s-9" })],
    ["keyTaken", "This key cannot be used.", (session) => session.checkCreate("objects", { id: "o-1", title: "New" })],
    [
      "keyTakenByLine",
      "An earlier line has the same key.",
      // With a source, what the line before it has left is a record with this key.
      (_, messages) =>
        portier.session(messages).checkImport(
          "objects",
          [1, 2].map(() => ({ id: "o-2", title: "New" })),
        ).results[1],
    ],
  ] as [keyof UserMessages, string, (session: ReturnType<typeof portier.session>, messages: object) => unknown][]
).map(([key, says, change]) => [
  key,
  says,
  (messages) => {
    const own = messages === undefined ? {} : { messages };
    return change(portier.session({ source, ...own }), own);
  },
]);

describe("what end users read of a refused change", () => {
  it("has a case for each message", () => {
    expect(cases.map(([key]) => key).sort()).toEqual(Object.keys(german).sort());
  });

  it.each(cases)("is in English, or in another language: %s", (key, says, change) => {
    const read = (messages?: Partial<UserMessages>) =>
      (change(messages) as { refusals: { message: string }[] }).refusals.map(({ message }) => message);
    expect(read()).toEqual([says]);
    const own = german[key];
    expect(read(german)).toEqual([typeof own === "string" ? own : own((given[key] ?? "") as never)]);
    // What is not replaced stays English.
    expect(read({})).toEqual([says]);
  });

  it("is a rule's own note where it has one, whatever the language", () => {
    const session = portier.session({ source, messages: german });
    expect(session.checkEdit("objects", { ...stored, title: "Bell" }, { title: "Ring" })).toMatchObject({
      refusals: [{ message: "The bell keeps its name." }],
    });
  });

  describe("in a database", () => {
    let engine: Engine;
    beforeAll(async () => {
      engine = await (engines["SQLite"] as () => Promise<Engine>)();
      await createTables(engine, portier.schema);
    });
    afterAll(() => engine?.close());

    it("is in the language that is asked for, over HTTP by the request", async () => {
      const database = createDatabase(portier, engine.connection);
      expect(
        await database.as(null, { messages: german }).create("objects", { id: "o-1", title: "New" }),
      ).toMatchObject({
        accepted: true,
      });
      expect(
        await database.as(null, { messages: german }).create("objects", { id: "o-1", title: "New" }),
      ).toMatchObject({
        refusals: [{ message: german.keyTaken }],
      });
      const handle = accessHandler({
        portier,
        connection: engine.connection,
        authenticate: () => ({ person: null }),
        messages: ({ headers }) => (headers.get("accept-language") === "de" ? german : undefined),
      });
      for (const [language, says] of [
        ["de", "Value dürfen Sie nicht ändern."],
        ["en", 'You may not set "Value".'],
      ]) {
        const response = await handle(
          new Request("http://museum/records/objects/o-1", {
            method: "PATCH",
            headers: { "content-type": "application/json", "accept-language": language ?? "" },
            body: JSON.stringify({ values: { value: "2" } }),
          }),
        );
        expect(await response?.json()).toMatchObject({ refusals: [{ message: says }] });
      }
    });
  });
});
