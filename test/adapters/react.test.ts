// @vitest-environment jsdom
import { type ChangeResult, type Form, type Row, type Session, snapshotOf } from "portier";
import {
  type AccessField,
  AccessFields,
  type Change,
  type Draft,
  May,
  OnScreen,
  PortierProvider,
  useAccessForm,
  useChange,
  useChoices,
  useDraft,
  useMay,
  usePortier,
  useReach,
  useScreens,
} from "portier/react";
import { act, createElement as h, type ReactNode } from "react";
import { createRoot, hydrateRoot } from "react-dom/client";
import { renderToString } from "react-dom/server";
import { useForm } from "react-hook-form";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { as, record, source } from "../support/museum.js";

(globalThis as { IS_REACT_ACT_ENVIRONMENT?: boolean }).IS_REACT_ACT_ENVIRONMENT = true;
const sextant = record("objects", "BM-SH-0001");

let host: HTMLElement;
beforeEach(() => {
  host = document.createElement("div");
});
// A warning of React is a failure.
const warnings = vi.spyOn(console, "error");
afterEach(() => {
  expect(warnings.mock.calls).toEqual([]);
  warnings.mockClear();
});

const within = (session: Session, ...children: ReactNode[]) => h(PortierProvider, { session }, ...children);
const shown = (session: Session, ...children: ReactNode[]) => renderToString(within(session, ...children));

/** A card with every field that the person sees or may set, as an application would draw it. */
function Card({ object }: { object: Row }): ReactNode {
  const form = useAccessForm("objects", object);
  if (form === undefined) return h("p", null, "There is no such object.");
  return h(AccessFields, {
    form,
    // biome-ignore lint/correctness/noChildrenProp: a function draws each field
    children: (field) =>
      h(
        "label",
        null,
        field.name,
        h("input", { ...field.control, defaultValue: String(field.value ?? "") }),
        field.noteId === undefined ? null : h("small", { id: field.noteId }, field.note ?? field.confirm?.[0]?.note),
      ),
  });
}

function Edit({ sent }: { sent: unknown[] }): ReactNode {
  const form = useAccessForm("objects", sextant);
  const { register, handleSubmit } = useForm({ defaultValues: { label: "old", shelf: "" } });
  const fields = h(AccessFields, {
    form,
    names: ["label", "shelf", "insured_value"],
    // biome-ignore lint/correctness/noChildrenProp: a function draws each field
    children: ({ name, control }) => h("input", { ...register(name as "label"), ...control }),
  });
  return h("form", { onSubmit: handleSubmit((values) => void sent.push(values)) }, fields);
}

function Page(): ReactNode {
  const { screens, home } = useScreens();
  return h(
    "main",
    null,
    h("nav", null, `${home}: ${screens.join(" ")}`),
    h(May, { action: "delete", table: "objects", record: sextant, otherwise: "kept" }, "delete"),
    h(May, { action: "create", table: "objects" }, "new"),
    h(OnScreen, { name: "administration", otherwise: "-" }, "roles"),
    h("i", null, String(useMay("view", "objects", sextant, "insured_value"))),
    h("b", null, (useChoices("objects", "status", sextant) ?? []).join(" ")),
  );
}

function Asks(): ReactNode {
  return h("i", null, String(usePortier().roles));
}

let change: Change<Row>;
function Sends({ send }: { send: Parameters<typeof useChange<Row>>[0] }): ReactNode {
  change = useChange(send);
  return h("output", null, change.state);
}

function inputs(html: string): Record<string, HTMLInputElement> {
  const page = document.createElement("div");
  page.innerHTML = html;
  return Object.fromEntries([...page.querySelectorAll("input")].map((input) => [input.name, input]));
}

describe("the fields of a form", () => {
  it("are there, locked or open as the session says, and hidden ones are not", () => {
    for (const person of ["s-001", "s-003", "s-004", "s-005", "s-006", "s-007", undefined]) {
      const session = as(person);
      const form = session.form("objects", sextant);
      const found = inputs(shown(session, h(Card, { object: sextant })));
      const visible = (form?.fields ?? []).filter(({ state }) => state !== "hidden");
      expect(Object.keys(found)).toEqual(visible.map(({ name }) => name));
      for (const { name, state, required } of visible) {
        expect([name, found[name]?.readOnly, found[name]?.required]).toEqual([name, state === "read-only", required]);
      }
    }
  });

  it("carry their notes where a reader of the page finds them", () => {
    const page = document.createElement("div");
    const onLoan = record("objects", "BM-SH-0003");
    page.innerHTML = shown(as("s-005"), h(Card, { object: { ...onLoan, status: "on_loan" } }));
    const shelf = page.querySelector("input[name=shelf]");
    const note = page.querySelector(`[id="${shelf?.getAttribute("aria-describedby")}"]`);
    expect(note?.textContent).toBe("The object is on loan. Is it really back?");
    expect(shown(as("s-009"), h(Card, { object: sextant }))).toContain("There is no such object.");
  });

  it("go along with an ordinary form library", async () => {
    const sent: unknown[] = [];
    const root = createRoot(host);
    await act(async () => root.render(within(as("s-003"), h(Edit, { sent }))));
    expect(Object.keys(inputs(host.innerHTML))).toEqual(["label", "shelf"]);
    const form = host.querySelector("form") as HTMLFormElement;
    await act(async () => void form.dispatchEvent(new Event("submit", { bubbles: true, cancelable: true })));
    expect(sent).toEqual([{ label: "old", shelf: "" }]);
    await act(async () => root.unmount());
  });
});

describe("what is shown", () => {
  it("follows the session, also when another one takes its place", async () => {
    const root = createRoot(host);
    await act(async () => root.render(within(as("s-001"), h(Page))));
    expect(host.textContent).toMatch(/^administration: .*deletenewrolestrueregistered on_display on_loan withdrawn$/);
    // The role was taken away: the next session knows it.
    await act(async () => root.render(within(as("s-003"), h(Page))));
    expect(host.textContent).toMatch(/^objects: .*kept-falseregistered on_display on_loan$/);
    await act(async () => root.unmount());
  });

  it("is the same from a snapshot, on a server and in a browser", async () => {
    const snapshot = JSON.parse(JSON.stringify(snapshotOf(as("s-003"))));
    const fromSnapshot = h(PortierProvider, { snapshot, source }, h(Page), h(Card, { object: sextant }));
    const html = renderToString(fromSnapshot);
    expect(html).toBe(shown(as("s-003"), h(Page), h(Card, { object: sextant })));
    host.innerHTML = html;
    const before = host.innerHTML;
    const root = await act(async () => hydrateRoot(host, fromSnapshot));
    expect(host.innerHTML).toBe(before);
    await act(async () => root.unmount());
  });

  it("is nothing without a session", () => {
    expect(() => renderToString(h(Asks))).toThrow(/no PortierProvider/);
  });
});

describe("a change", () => {
  const rule = "plan/totals-are-worked-out";
  const plan = record("plan", "b-03");
  const judged = (session: Session) => async (values: Row, options: object) =>
    session.checkEdit("plan", plan, values, options);
  const start = async (send: Parameters<typeof useChange<Row>>[0]) => {
    const root = createRoot(host);
    await act(async () => root.render(h(Sends, { send })));
    return root;
  };

  it("asks for what is to be confirmed, and is done then", async () => {
    const root = await start(judged(as("s-001")));
    await act(async () => void (await change.submit({ total: "1.00" })));
    expect([host.textContent, change.asking.map((one) => one.rule)]).toEqual(["asking", [rule]]);
    await act(async () => void (await change.confirm()));
    expect([change.state, change.asking]).toEqual(["done", []]);
    await act(async () => void (await change.submit({ total: "2.00" })));
    await act(async () => change.cancel());
    expect(change.state).toBe("idle");
    await act(async () => void expect(await change.confirm()).toBeUndefined());
    await act(async () => root.unmount());
  });

  it("says what was refused, at which field, and what failed", async () => {
    const root = await start(judged(as("s-010")));
    await act(async () => void (await change.submit({ total: "1.00", q1: "5.00" })));
    expect([change.state, change.refusalOf("total")?.field, change.refusalOf("q1")]).toEqual([
      "refused",
      "total",
      undefined,
    ]);
    const failure = new Error("away");
    await act(async () => root.render(h(Sends, { send: () => Promise.reject(failure) })));
    await act(async () => void (await change.submit({ q1: "5.00" })));
    expect([change.state, change.error]).toEqual(["failed", failure]);
    await act(async () => root.unmount());
  });

  it("does not show an answer that comes after a later one", async () => {
    const answers: ((outcome: ChangeResult) => void)[] = [];
    const root = await start(() => new Promise((resolve) => void answers.push(resolve)));
    const done = { accepted: true, record: undefined, changes: {}, dropped: [] } as const;
    await act(async () => {
      const [first, second] = [change.submit({ q1: "1" }), change.submit({ q1: "2" })];
      answers[1]?.(done);
      answers[0]?.({ accepted: false, reason: "refused", refusals: [] });
      expect([await first, await second]).toEqual([undefined, done]);
    });
    expect(change.state).toBe("done");
    await act(async () => root.unmount());
  });
});

function Asked({ object }: { object: Row | undefined }): ReactNode {
  const answers = [
    useMay("edit", "objects", object),
    useMay("edit", "objects", object, "label"),
    useAccessForm("objects", object) === undefined,
    JSON.stringify(useChoices("objects", "status", object)),
  ];
  return [
    answers.join(" "),
    h(May, { key: "may", action: "edit", table: "objects", record: object }, " may"),
    h(May, { key: "field", action: "edit", table: "objects", record: object, field: "label" }, " field"),
  ];
}
function Anywhere(): ReactNode {
  return [
    [useMay("edit", "objects"), useReach("edit", "objects"), useAccessForm("loans")?.isNew].join(" "),
    h(May, { key: "may", action: "create", table: "loans" }, " may"),
  ];
}

describe("a record that is on its way", () => {
  it("permits nothing, although something is permitted on some record", () => {
    const keeper = as("s-003");
    expect(shown(keeper, h(Anywhere))).toBe("true some true<!-- --> may");
    expect(shown(keeper, h(Asked, { object: undefined }))).toBe("false false true []");
    expect(shown(keeper, h(Asked, { object: sextant }))).toMatch(
      /^true true false \[.*on_display.*\](<!-- -->)? may(<!-- -->)? field$/,
    );
  });
});

describe("fields that are picked", () => {
  const form: Form = {
    table: "staff",
    label: "Staff",
    isNew: false,
    fields: [
      { name: "active", label: "Active", type: "boolean", state: "editable", required: true, value: true },
      { name: "trained", label: "Trained", type: "boolean", state: "read-only", required: true, value: false },
      { name: "site", label: "Site", type: "choice", state: "read-only", required: false, value: "north" },
      { name: "name", label: "Name", type: "text", state: "read-only", required: true, value: "N." },
    ],
    actions: [],
  };
  it("can be answered with no, and not be changed where they are read-only", () => {
    const controls: Record<string, AccessField["control"]> = {};
    const draw = (field: AccessField) => {
      controls[field.name] = field.control;
      return null;
    };
    // biome-ignore lint/correctness/noChildrenProp: a function draws each field
    shown(as("s-001"), h(AccessFields, { form, children: draw }));
    expect(controls).toMatchObject({
      active: { type: "checkbox", required: false, disabled: false, readOnly: false },
      trained: { type: "checkbox", required: false, disabled: true, readOnly: true },
      site: { disabled: true, readOnly: true },
      name: { required: true, disabled: false, readOnly: true },
    });
    expect(as("s-001").form("staff", record("staff", "s-007"))?.fields).toContainEqual(
      expect.objectContaining({ name: "active", label: "Active", type: "boolean" }),
    );
  });
});

let draft: Draft;
function Drafting({ form }: { form: Form }): ReactNode {
  draft = useDraft(form);
  return null;
}

describe("a draft", () => {
  const formWith = (values: Row): Form => ({
    table: "staff",
    label: "Staff",
    isNew: false,
    fields: Object.entries(values).map(([name, value]) => ({
      name,
      label: name,
      type: "text",
      state: "editable",
      required: false,
      value,
    })),
    actions: [],
  });

  it("sends what this person changed, whatever others have changed meanwhile", async () => {
    const root = createRoot(host);
    const show = (values: Row) => act(async () => root.render(h(Drafting, { form: formWith(values) })));
    await show({ name: "N.", active: true, phone: null, post: "keeper" });
    expect(draft.changes).toEqual({});
    await act(async () => draft.set("active", false));
    await act(async () => draft.set("phone", "+1"));
    await act(async () => draft.set("post", "head"));
    expect(draft.changes).toEqual({ active: false, phone: "+1", post: "head" });
    // Somebody else changes the name, which is shown, and the phone, which is said; and does what was to be done of the post.
    await show({ name: "M.", active: true, phone: "+2", post: "head" });
    expect(draft.values).toEqual({ name: "M.", active: false, phone: "+1", post: "head" });
    expect(draft.changes).toEqual({ active: false, phone: "+1" });
    expect(draft.overtaken).toEqual(["phone"]);
    await act(async () => draft.reset("phone"));
    expect([draft.changes, draft.overtaken]).toEqual([{ active: false }, []]);
    // What is not in the form any more is not sent.
    await show({ name: "M.", phone: "+2" });
    expect(draft.changes).toEqual({});
    await show({ name: "M.", active: true });
    await act(async () => draft.reset());
    expect(draft.changes).toEqual({});
    await act(async () => root.unmount());
  });
});
