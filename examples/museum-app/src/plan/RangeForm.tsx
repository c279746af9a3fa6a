import { Alert, Button, Group, Modal, MultiSelect, Select, Stack, Text, TextInput } from "@mantine/core";
import type { KeptRange, NewRange } from "portier/ranges";
import type { AccessChange, SharedDifference } from "portier/verify";
import { type ReactNode, useState } from "react";
import { useHouse } from "../session.js";
import { changeRanges, previewRanges, type RangeEdit } from "./plan-api.js";
import { nameOf } from "./Ranges.js";

/** What the form begins with: a range that is there, or one that is to be made. */
export type Drafted =
  | { readonly range: KeptRange; readonly cells?: string }
  | { readonly proposed: { readonly name: string; readonly range: string } };

interface FormProps {
  readonly drafted: Drafted;
  /** All ranges, to take keepers from. */
  readonly ranges: readonly KeptRange[];
  readonly roles: readonly string[];
  readonly onDone: () => void;
  readonly onClose: () => void;
}

const effects: readonly { readonly value: NewRange["effect"]; readonly label: string }[] = [
  { value: "reserve", label: "only these may edit it" },
  { value: "permit", label: "these may edit it" },
  { value: "deny", label: "these may not edit it" },
  { value: "confirm", label: "these are asked before they edit it" },
];

/** A range: its cells, its keepers, its note. What anybody gains or loses by a change is shown before it is kept. */
export function RangeForm({ drafted, ranges, roles, onDone, onClose }: FormProps): ReactNode {
  const { labelOf } = useHouse();
  const known = "range" in drafted ? drafted.range : undefined;
  const begun =
    "range" in drafted
      ? { name: drafted.range.name ?? "", range: drafted.cells ?? drafted.range.range }
      : drafted.proposed;
  const [name, setName] = useState(begun.name);
  const [range, setRange] = useState(begun.range);
  const [effect, setEffect] = useState<NewRange["effect"]>(known?.effect ?? "reserve");
  const [to, setTo] = useState<readonly string[]>(known?.to ?? []);
  const [except, setExcept] = useState<readonly string[]>(known?.without ?? []);
  const [note, setNote] = useState(known?.note ?? "");
  const [previewed, setPreviewed] = useState<{ edit: RangeEdit; differences: readonly SharedDifference[] }>();
  const [failure, setFailure] = useState<string>();

  const place = known && { rule: known.rule, action: known.action, range: known.range };
  const edit: RangeEdit =
    place === undefined
      ? { kind: "add", added: { name: name.trim(), range, effect, to, ...(note === "" ? {} : { note }) } }
      : { kind: "edit", place, change: { range, to, except, note } };
  const attempt = async (work: () => Promise<void>) => {
    setFailure(undefined);
    try {
      await work();
    } catch (error) {
      setPreviewed(undefined);
      setFailure(error instanceof Error ? error.message : String(error));
    }
  };
  const preview = (asked: RangeEdit) =>
    attempt(async () => setPreviewed({ edit: asked, differences: await previewRanges(asked) }));
  const change =
    <V,>(set: (value: V) => void) =>
    (value: V) => {
      set(value);
      setPreviewed(undefined);
    };
  const others = ranges.filter((one) => one !== known);
  const who = [...new Set([...roles, "anyone", ...to, ...except])];
  return (
    <Modal
      opened
      onClose={onClose}
      title={known === undefined ? "A new range" : `The range ${nameOf(known)}`}
      size="lg"
    >
      <Stack gap="sm">
        <Group grow align="start">
          <TextInput
            label="Cells"
            description="B2:F40, C7, G:G, 2:2, A2:E or H:"
            value={range}
            onChange={(event) => change(setRange)(event.currentTarget.value)}
          />
          {known === undefined && (
            <TextInput
              label="Name"
              description="for the range and its rule"
              value={name}
              onChange={(event) => change(setName)(event.currentTarget.value)}
            />
          )}
        </Group>
        {known === undefined && (
          <Select
            label="What it means"
            data={effects}
            value={effect}
            allowDeselect={false}
            onChange={(value) => value !== null && change(setEffect)(value as NewRange["effect"])}
          />
        )}
        <MultiSelect label="For" data={who} value={[...to]} onChange={change(setTo)} searchable />
        <Select
          label="The same keepers as"
          placeholder="another range"
          data={others.map((one, index) => ({ value: String(index), label: `${nameOf(one)}: ${one.to.join(", ")}` }))}
          value={null}
          onChange={(index) => {
            const other = others[Number(index)];
            if (index === null || other === undefined) return;
            change(setTo)(other.to);
            change(setExcept)(other.without);
          }}
        />
        <TextInput
          label="Note"
          description="shown to whoever is refused"
          value={note}
          onChange={(event) => change(setNote)(event.currentTarget.value)}
        />
        {failure !== undefined && (
          <Alert color="wine" title="This cannot be kept">
            {failure}
          </Alert>
        )}
        {previewed !== undefined && (
          <Alert title="What comes of it" data-testid="range-preview">
            {previewed.differences.length === 0 && <Text>Nobody gains or loses anything on the rows there are.</Text>}
            {previewed.differences.map(({ persons, gains, losses }) => (
              <div key={persons.join()}>
                <Text fw={600}>{persons.map((key) => labelOf("staff", key)).join(", ")}</Text>
                <Lines sign="gains" lines={gains} />
                <Lines sign="loses" lines={losses} />
              </div>
            ))}
            <Button mt="xs" onClick={() => attempt(async () => changeRanges(previewed.edit).then(onDone))}>
              {previewed.edit.kind === "remove" ? "Remove it" : "Keep it so"}
            </Button>
          </Alert>
        )}
        <Group>
          {previewed === undefined && <Button onClick={() => preview(edit)}>What comes of it?</Button>}
          {place !== undefined && (
            <Button variant="default" onClick={() => preview({ kind: "remove", place })}>
              Remove this range
            </Button>
          )}
          <Button variant="default" onClick={onClose}>
            Leave it
          </Button>
        </Group>
      </Stack>
    </Modal>
  );
}

function Lines({ sign, lines }: { sign: string; lines: readonly AccessChange[] }): ReactNode {
  return lines.map(({ actions, fields, records, of, samples }) => (
    <Text size="sm" key={`${actions} ${fields} ${samples}`}>
      {sign} {actions.join(", ")} {fields.join(", ")}{" "}
      {records === undefined ? "of new rows" : `on ${records} of ${of} rows`}
    </Text>
  ));
}
