import { Button, Group, Stack, Text, Title } from "@mantine/core";
import { type CellRange, type KeptRange, parseRange } from "portier/ranges";
import type { ReactNode } from "react";
import type { Ranges as KnownRanges } from "./plan-api.js";

interface RangesProps {
  readonly known: KnownRanges;
  readonly onJump: (range: KeptRange) => void;
  readonly onEdit: (range: KeptRange) => void;
  readonly onAdd: () => void;
}

/** All ranges of the plan: where, for whom, why, and since when. */
export function Ranges({ known, onJump, onEdit, onAdd }: RangesProps): ReactNode {
  const { mayChange, timeZone } = known;
  const ranges = known.ranges.toSorted((a, b) => placeOf(a) - placeOf(b));
  return (
    <aside aria-label="Ranges" className="ranges">
      <Group justify="space-between">
        <Title order={2} size="h4">
          Ranges
        </Title>
        {mayChange && (
          <Button size="compact-sm" variant="default" onClick={onAdd}>
            Add a range
          </Button>
        )}
      </Group>
      <Stack gap="xs" mt="xs">
        {ranges.map((one) => (
          <section
            key={`${one.range} ${one.effect} ${one.note} ${one.rule}`}
            className="range"
            aria-label={nameOf(one)}
          >
            <Group justify="space-between" wrap="nowrap">
              <Text fw={600} size="sm">
                {one.range}
                {one.name !== undefined && <span className="soft"> {one.name}</span>}
              </Text>
              <Group gap={4} wrap="nowrap">
                <Button
                  size="compact-xs"
                  variant="subtle"
                  aria-label={`Go to ${nameOf(one)}`}
                  onClick={() => onJump(one)}
                >
                  Go there
                </Button>
                {mayChange && (
                  <Button
                    size="compact-xs"
                    variant="subtle"
                    aria-label={`Change ${nameOf(one)}`}
                    onClick={() => onEdit(one)}
                  >
                    Change
                  </Button>
                )}
              </Group>
            </Group>
            <Text size="sm">{saidOf(one, timeZone)}</Text>
            {one.note !== undefined && (
              <Text size="sm" className="soft">
                {one.note}
              </Text>
            )}
          </section>
        ))}
      </Stack>
    </aside>
  );
}

/** In the order in which one reads: by rows, then by columns. */
function placeOf({ range }: KeptRange): number {
  const { top, left } = parseRange(range) as CellRange;
  return top * 1_000 + left;
}

export function nameOf({ range, name }: KeptRange): string {
  return name === undefined ? range : `${range} ${name}`;
}

/** What a range means, in a sentence. */
function saidOf({ effect, to, without, from, until }: KeptRange, timeZone: string): string {
  const day = (instant: string) => new Intl.DateTimeFormat("sv-SE", { timeZone }).format(new Date(instant));
  const who = to.join(", ");
  const but = without.length === 0 ? "" : `, but not ${without.join(", ")}`;
  const everybody = to.includes("anyone") ? "everybody" : who;
  const said = {
    permit: `Edited by ${who}${but}.`,
    reserve: `Edited by ${who} alone${but}.`,
    deny: `Locked for ${everybody}${but}.`,
    confirm: `Asks ${everybody} before it is edited${but}.`,
  }[effect];
  const times = [from && `From ${day(from)}`, until && `until ${day(until)}`].filter(Boolean).join(" ");
  return times === "" ? said : `${times}: ${said}`;
}
