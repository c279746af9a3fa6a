import { accessMatchers } from "portier/vitest";
import { describe, expect, it } from "vitest";
import { as, record } from "../support/museum.js";

expect.extend(accessMatchers);

describe("matchers", () => {
  const object = record("objects", "BM-SH-0001");

  it("say whether a session permits it", () => {
    expect(as("s-003")).toPermit("view", "objects", object, "shelf");
    expect(as("s-003")).not.toPermit("view", "objects", object, "insured_value");
    expect(as("s-003")).toPermit("edit", "objects");
    expect(as()).not.toPermit("create", "objects");
    expect(as("s-007")).toPermitExactly("view", "staff", record("staff", "s-007"), [
      ...["id", "name", "post", "department", "site", "manager", "active", "phone", "salary"],
    ]);
    expect(as("s-007")).not.toPermitExactly("edit", "objects", object, ["title"]);
  });

  it("explain what came out otherwise", () => {
    expect(() => expect(as("s-003")).toPermit("view", "objects", object, "insured_value")).toThrow(
      /NO {2}s-003 cannot view insured_value of objects\/BM-SH-0001: only registrar or director may\.[\s\S]*value-stays-in-the-office/,
    );
    expect(() => expect(as("s-003")).toPermitExactly("edit", "objects", object, ["label"])).toThrow(
      /expected label, found label, keeper, status, shelf, condition_note\n\nYES {2}s-003 may edit keeper of objects\/BM-SH-0001/,
    );
    expect(() => expect({}).toPermit("view", "objects")).toThrow();
  });

  it.each<[string, () => void]>([
    ["a record that was not found", () => expect(as("s-003")).not.toPermit("view", "objects", undefined, "title")],
    ["a record without its key", () => expect(as("s-003")).not.toPermit("view", "objects", {}, "title")],
    ["a name in its place", () => expect(as("s-003")).not.toPermit("view", "objects", "title" as never)],
    [
      "none at all for exact fields",
      () => expect(as("s-003")).not.toPermitExactly("view", "objects", undefined as never, []),
    ],
  ])("refuse %s, which would make every negated expectation come true", (_what, expectation) => {
    expect(expectation).toThrow(/is not a record of "objects"/);
  });
});
