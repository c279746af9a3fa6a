import { Alert, Button, Group, Modal, MultiSelect, Select, Stack, Text, TextInput } from "@mantine/core";
import type { ProtectionChange } from "portier/people";
import type { AccessChange } from "portier/verify";
import { type ReactNode, useState } from "react";
import { useMuseum } from "../session.js";
import { changeRanges, type PlanRange, type Previewed, previewRanges } from "./plan-api.js";
import { nameOf } from "./Ranges.js";

/** What the form begins with: a protection that is there, or cells that are to be protected. */
export type Drafted =
  | { readonly range: PlanRange }
  | { readonly proposed: { readonly cells: string; readonly note: string } };

interface FormProps {
  readonly drafted: Drafted;
  /** All ranges, to take from whom they are for. */
  readonly ranges: readonly PlanRange[];
  readonly who: readonly { readonly value: string; readonly label: string }[];
  readonly onDone: () => void;
  readonly onClose: () => void;
}

type Effect = "reserve" | "confirm";

const effects: readonly { readonly value: Effect; readonly label: string }[] = [
  { value: "reserve", label: "nobody else edits it" },
  { value: "confirm", label: "everybody else is asked first" },
];

/** A protection: its cells, whom it names, its note and its time. What anybody gains or loses is shown before it is kept. */
export function RangeForm({ drafted, ranges, who, onDone, onClose }: FormProps): ReactNode {
  const { labelOf } = useMuseum();
  const known = "range" in drafted ? drafted.range : undefined;
  // Several ranges of one protection stand in the list one by one.
  const own = known === undefined ? [] : ranges.filter(({ protection }) => protection === known.protection);
  const begun =
    "range" in drafted ? { cells: own.map(({ range }) => range).join(" "), note: known?.note ?? "" } : drafted.proposed;
  const [cells, setCells] = useState(begun.cells);
  const [except, setExcept] = useState(known?.except.join(" ") ?? "");
  const [effect, setEffect] = useState<Effect>(known?.effect === "confirm" ? "confirm" : "reserve");
  const [to, setTo] = useState<readonly string[]>(known === undefined ? [] : namedBy(known));
  const [note, setNote] = useState(begun.note);
  const [until, setUntil] = useState(known?.until?.slice(0, 10) ?? "");
  const [previewed, setPreviewed] = useState<{ change: ProtectionChange; of: Previewed }>();
  const [failure, setFailure] = useState<string>();

  const given = { ranges: listOf(cells), except: listOf(except), effect, to };
  const id = known?.protection;
  const change: ProtectionChange =
    id === undefined
      ? { kind: "protect", table: "plan", ...given, note, ...(until === "" ? {} : { until }) }
      : { kind: "change-protection", id, ...given, note, until: until === "" ? null : until };
  const attempt = async (work: () => Promise<void>) => {
    setFailure(undefined);
    try {
      await work();
    } catch (error) {
      setPreviewed(undefined);
      setFailure(error instanceof Error ? error.message : String(error));
    }
  };
  const preview = (asked: ProtectionChange) =>
    attempt(async () => {
      const of = await previewRanges(asked);
      const { outcome } = of;
      if (outcome.accepted || outcome.reason !== "refused") return setPreviewed({ change: asked, of });
      setPreviewed(undefined);
      const said = outcome.problems.map(({ message, hint }) => (hint === undefined ? message : `${message} ${hint}`));
      return setFailure(said.join(" "));
    });
  const set =
    <V,>(keep: (value: V) => void) =>
    (value: V) => {
      keep(value);
      setPreviewed(undefined);
    };
  const others = ranges.filter((one) => one !== known && one.protection !== undefined);
  const shown = [
    ...who,
    ...to.filter((one) => !who.some(({ value }) => value === one)).map((value) => ({ value, label: value })),
  ];
  return (
    <Modal
      opened
      onClose={onClose}
      title={known === undefined ? "Protect cells" : `The protection of ${nameOf(known)}`}
      size="lg"
    >
      <Stack gap="sm">
        <Group grow align="start">
          <TextInput
            label="Cells"
            description="B2:F40, C7, G:G, 2:2, A2:E or H:"
            value={cells}
            onChange={(event) => set(setCells)(event.currentTarget.value)}
          />
          <TextInput
            label="Except"
            description="cells that stay as they are"
            value={except}
            onChange={(event) => set(setExcept)(event.currentTarget.value)}
          />
        </Group>
        <MultiSelect
          label="Edited by"
          description="roles and persons; nobody, where none is named"
          data={shown}
          value={[...to]}
          onChange={set(setTo)}
          searchable
        />
        <Select
          label="Everybody else"
          data={effects}
          value={effect}
          allowDeselect={false}
          onChange={(value) => value !== null && set(setEffect)(value as Effect)}
        />
        <Select
          label="Copy from"
          placeholder="another protection"
          data={others.map((one, index) => ({ value: String(index), label: `${nameOf(one)}: ${one.note ?? ""}` }))}
          value={null}
          onChange={(index) => {
            const other = others[Number(index)];
            if (index === null || other === undefined) return;
            set(setTo)(namedBy(other));
            set(setEffect)(other.effect === "confirm" ? "confirm" : "reserve");
          }}
        />
        <Group grow align="start">
          <TextInput
            label="Note"
            description="shown to whoever is refused"
            value={note}
            onChange={(event) => set(setNote)(event.currentTarget.value)}
          />
          <TextInput
            type="date"
            label="Until"
            description="the day on which it ends"
            value={until}
            onChange={(event) => set(setUntil)(event.currentTarget.value)}
          />
        </Group>
        {failure !== undefined && (
          <Alert color="wine" title="This protection is not valid">
            {failure}
          </Alert>
        )}
        {previewed !== undefined && (
          <Alert title="What changes" data-testid="range-preview">
            {previewed.of.outcome.warnings.map(({ id: warning, message }) => (
              <Text key={warning} fw={600}>
                {message}
              </Text>
            ))}
            {previewed.of.differences.length === 0 && <Text>Nobody gains or loses access to the rows there are.</Text>}
            {previewed.of.differences.map(({ persons, gains, losses }) => (
              <div key={persons.join()}>
                <Text fw={600}>{persons.map((key) => labelOf("staff", key)).join(", ")}</Text>
                <Lines sign="gains" lines={gains} />
                <Lines sign="loses" lines={losses} />
              </div>
            ))}
            <Button
              mt="xs"
              onClick={() =>
                attempt(async () => {
                  const confirmed = previewed.of.outcome.warnings.map((one) => one.id);
                  await changeRanges(previewed.change, confirmed).then(onDone);
                })
              }
            >
              {previewed.change.kind === "unprotect" ? "Remove" : "Save"}
            </Button>
          </Alert>
        )}
        <Group>
          {previewed === undefined && <Button onClick={() => preview(change)}>Preview</Button>}
          {id !== undefined && (
            <Button variant="default" onClick={() => preview({ kind: "unprotect", id })}>
              Remove this protection
            </Button>
          )}
          <Button variant="default" onClick={onClose}>
            Cancel
          </Button>
        </Group>
      </Stack>
    </Modal>
  );
}

/** Whom a protection names: those who keep the cells, or are not asked. */
function namedBy({ effect, to, without }: PlanRange): readonly string[] {
  return effect === "confirm" ? without : to;
}

function listOf(text: string): string[] {
  return text.split(/\s+/).filter((one) => one !== "");
}

function Lines({ sign, lines }: { sign: string; lines: readonly AccessChange[] }): ReactNode {
  return lines.map(({ actions, fields, records, of, samples }) => (
    <Text size="sm" key={`${actions} ${fields} ${samples}`}>
      {sign} {actions.join(", ")} {fields.join(", ")}{" "}
      {records === undefined ? "of new rows" : `on ${records} of ${of} rows`}
    </Text>
  ));
}
