import { Button, Group, Stack, Text, Title } from "@mantine/core";
import { type CellRange, parseRange } from "portier/ranges";
import type { ReactNode } from "react";
import { useMuseum } from "../session.js";
import type { Ranges as KnownRanges, PlanRange } from "./plan-api.js";

interface RangesProps {
  readonly known: KnownRanges;
  readonly onJump: (range: PlanRange) => void;
  readonly onEdit: (range: PlanRange) => void;
  readonly onAdd: () => void;
}

/** All ranges of the plan: where, for whom, why, and since when. */
export function Ranges({ known, onJump, onEdit, onAdd }: RangesProps): ReactNode {
  const { mayProtect, timeZone } = known;
  const { labelOf } = useMuseum();
  const names = (entries: readonly string[]) =>
    entries.map((one) => (one.startsWith("person ") ? labelOf("staff", one.slice("person ".length)) : one)).join(", ");
  const ranges = known.ranges.toSorted((a, b) => placeOf(a) - placeOf(b));
  return (
    <aside aria-label="Ranges" className="ranges">
      <Group justify="space-between">
        <Title order={2} size="h4">
          Ranges
        </Title>
        {mayProtect && (
          <Button size="compact-sm" variant="default" onClick={onAdd}>
            Protect cells
          </Button>
        )}
      </Group>
      <Stack gap="xs" mt="xs">
        {ranges.map((one) => (
          <section
            key={`${one.range} ${one.effect} ${one.note} ${one.protection}`}
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
                  Go to
                </Button>
                {one.mayChange && (
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
            <Text size="sm">{saidOf(one, names, timeZone)}</Text>
            {one.note !== undefined && (
              <Text size="sm" className="soft">
                {one.note}
              </Text>
            )}
            {one.by !== null && one.at !== null && (
              <Text size="sm" className="soft">
                {`${labelOf("staff", one.by)}, ${dayOf(one.at, timeZone)}`}
              </Text>
            )}
          </section>
        ))}
      </Stack>
    </aside>
  );
}

/** In the order in which one reads: by rows, then by columns. */
function placeOf({ range }: PlanRange): number {
  const { top, left } = parseRange(range) as CellRange;
  return top * 1_000 + left;
}

export function nameOf({ range, name }: PlanRange): string {
  return name === undefined ? range : `${range} ${name}`;
}

function dayOf(instant: string, timeZone: string): string {
  return new Intl.DateTimeFormat("sv-SE", { timeZone }).format(new Date(instant));
}

/** What a range means, in a sentence. */
function saidOf(
  { effect, to, without, except, from, until }: PlanRange,
  names: (entries: readonly string[]) => string,
  timeZone: string,
): string {
  const but = without.length === 0 ? "" : `, but not ${names(without)}`;
  const cells = except.length === 0 ? "" : ` Not ${except.join(", ")}.`;
  const everybody = to.includes("anyone") ? "everybody" : names(to);
  const said = {
    permit: `Edited by ${names(to)}${but}.`,
    reserve: to.length === 0 ? "Edited by nobody." : `Edited by ${names(to)} alone${but}.`,
    deny: `Locked for ${everybody}${but}.`,
    confirm: `Asks ${everybody} before it is edited${but}.`,
  }[effect];
  const times = [from && `From ${dayOf(from, timeZone)}`, until && `until ${dayOf(until, timeZone)}`]
    .filter(Boolean)
    .join(" ");
  return `${times === "" ? said : `${times}: ${said}`}${cells}`;
}
