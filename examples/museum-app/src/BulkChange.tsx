import { Alert, Button, Group, Select, Text, TextInput } from "@mantine/core";
import { usePortier } from "portier/react";
import type { ReactNode } from "react";
import { useState } from "react";
import { changeMany, type LineResult } from "./api.js";
import { useMuseum } from "./session.js";
import { words } from "./words.js";

interface BulkProps {
  readonly table: string;
  /** The records that were chosen. */
  readonly keys: readonly string[];
  readonly onDone: () => void;
}

/** The same value for many records at once, in the fields that may be changed so: all of it, or nothing. */
export function BulkChange({ table, keys, onDone }: BulkProps): ReactNode {
  const session = usePortier();
  const { shapes } = useMuseum();
  const [name, setName] = useState<string | null>(null);
  const [value, setValue] = useState("");
  const [results, setResults] = useState<readonly LineResult[]>();
  const [asked, setAsked] = useState<readonly { rule: string; note?: string }[]>([]);
  const fields = (shapes[table]?.fields ?? []).filter((field) => session.reach("bulk", table, field.name) !== "none");
  const field = fields.find((one) => one.name === name);
  const send = async (confirmed: readonly string[]) => {
    if (name === null) return;
    const { accepted, results: told } = await changeMany(
      table,
      keys,
      { [name]: value === "" ? null : value },
      confirmed,
    );
    const open = new Map(told.flatMap((one) => one.confirm ?? []).map((one) => [one.rule, one]));
    setAsked([...open.values()]);
    setResults(told);
    if (accepted) onDone();
  };
  if (fields.length === 0 || keys.length === 0) return null;
  const refused = results?.flatMap(({ accepted, refusals }, index) =>
    accepted ? [] : [`${keys[index]}: ${(refusals ?? []).map(({ message }) => message).join(" ")}`],
  );
  return (
    <section aria-label="Change selected records">
      <Group align="end" mt="sm">
        <Text>{keys.length} chosen:</Text>
        <Select
          label="Field"
          data={fields.map((one) => ({ value: one.name, label: one.label }))}
          value={name}
          onChange={setName}
        />
        {field?.choices === undefined ? (
          <TextInput label="Value" value={value} onChange={(event) => setValue(event.currentTarget.value)} />
        ) : (
          <Select
            label="Value"
            data={field.choices.map((one) => ({ value: one, label: words(one) }))}
            value={value}
            onChange={(next) => setValue(next ?? "")}
          />
        )}
        <Button disabled={name === null} onClick={() => send([])}>
          Change all
        </Button>
      </Group>
      {asked.length > 0 && (
        <Alert mt="sm" title="Please confirm">
          {asked.map(({ rule, note }) => (
            <Text key={rule}>{note}</Text>
          ))}
          <Button mt="xs" onClick={() => send(asked.map(({ rule }) => rule))}>
            Yes, change all
          </Button>
        </Alert>
      )}
      {asked.length === 0 && refused !== undefined && refused.length > 0 && (
        <Alert mt="sm" color="wine" title="Nothing was changed">
          {refused.slice(0, 5).map((line) => (
            <Text key={line}>{line}</Text>
          ))}
        </Alert>
      )}
    </section>
  );
}
