import { Alert, Button, Group, MultiSelect, Select, Stack, TextInput } from "@mantine/core";
import { type ReactNode, useState } from "react";
import { useProject } from "../project.js";
import type { Addition } from "../worker/protocol.js";

/** A rule or a range once more, for others: it goes into the text, where one thing of it is changed. */
export function Copy({ onDone }: { onDone: () => void }): ReactNode {
  const { overview, add } = useProject();
  const [address, setAddress] = useState<string | null>(null);
  const [name, setName] = useState("");
  const [to, setTo] = useState<readonly string[]>([]);
  const [range, setRange] = useState("");
  const [failure, setFailure] = useState<string>();
  const rules = overview.tables.flatMap((table) => table.rules);
  const chosen = rules.find((rule) => rule.address === address);
  const copy = async () => {
    if (address === null) return;
    setFailure(undefined);
    const [table = ""] = address.split("/");
    const addition: Addition =
      range.trim() === ""
        ? { kind: "rule", address, copy: { name: name.trim(), ...(to.length === 0 ? {} : { to }) } }
        : { kind: "range", table, range: { name: name.trim(), range, effect: "reserve", to } };
    try {
      await add(addition);
      onDone();
    } catch (error) {
      setFailure((error as Error).message);
    }
  };
  return (
    <Stack gap="xs">
      <Select
        size="xs"
        label="Copy the rule"
        searchable
        data={rules.map((rule) => rule.address)}
        value={address}
        onChange={setAddress}
      />
      <TextInput
        size="xs"
        label="The copy's name"
        value={name}
        onChange={(event) => setName(event.currentTarget.value)}
      />
      <MultiSelect
        size="xs"
        label="For"
        placeholder={to.length === 0 ? "the same" : ""}
        data={[...overview.roles, ...overview.groups]}
        value={[...to]}
        onChange={setTo}
        searchable
      />
      {chosen?.cells === true && (
        <TextInput
          size="xs"
          label="Other cells"
          description="a range of its own, kept by these alone: B2:F40, G:G, A2:E"
          value={range}
          onChange={(event) => setRange(event.currentTarget.value)}
        />
      )}
      {failure !== undefined && <Alert color="orange">{failure}</Alert>}
      <Group>
        <Button size="xs" disabled={address === null || name.trim() === ""} onClick={copy}>
          Copy it
        </Button>
      </Group>
    </Stack>
  );
}
