import { Button, Group, SegmentedControl, Text, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { type ReactNode, useEffect, useState } from "react";
import { useAddress } from "../address.js";
import { useProject } from "../project.js";
import type { ViewQuestion } from "../worker/protocol.js";
import { ask } from "../worker-client.js";
import { SeenTable } from "./SeenTable.js";
import { type Place, Why } from "./Why.js";

const shows = [
  { value: "seen", label: "seen" },
  { value: "differing", label: "different" },
  { value: "all", label: "all" },
];

/** The tables as one or two persons see them, with the reason for each cell one step away. */
export function ViewAs(): ReactNode {
  const [address, go] = useAddress();
  const { overview, turn, addExpectation } = useProject();
  const [show, setShow] = useState<ViewQuestion["show"]>("seen");
  const [search, setSearch] = useState("");
  const [sought] = useDebouncedValue(search, 250);
  const [place, setPlace] = useState<Place>();
  const [said, setSaid] = useState<string>();
  const table = overview.tables.find(({ name }) => name === address.table) ?? overview.tables[0];
  const eyes = [address.as ?? "visitor", ...(address.compare === undefined ? [] : [address.compare])];
  // Another table, other eyes: what was asked about is not there any more.
  // biome-ignore lint/correctness/useExhaustiveDependencies: it goes with what is looked at
  useEffect(() => {
    setPlace(undefined);
    setSaid(undefined);
  }, [table?.name, eyes.join(" "), turn]);
  if (table === undefined)
    return <p className="empty">There are no tables: the rules declare none yet, or have errors.</p>;
  const keep = async (eye: string, key: string | undefined) => {
    try {
      const proposal = await ask("propose", { eye, table: table.name, key });
      setSaid(`Added to ${await addExpectation(proposal)}: ${proposal.as} on ${proposal.on}.`);
    } catch (error) {
      setSaid((error as Error).message);
    }
  };
  return (
    <div className={`see${place === undefined ? "" : " with-why"}`}>
      <nav aria-label="Tables" className="tables">
        {overview.tables.map(({ name, label, count }) => (
          <button
            key={name}
            type="button"
            aria-current={name === table.name ? "page" : undefined}
            title={name}
            onClick={() => go({ table: name })}
          >
            {label} <span className="soft">{count.toLocaleString("en")}</span>
          </button>
        ))}
      </nav>
      <section aria-label={`${table.label}, as they see it`} className="seen">
        <Group gap="xs" className="bar">
          <SegmentedControl
            size="xs"
            aria-label="Which records"
            data={shows.filter(({ value }) => value !== "differing" || eyes.length > 1)}
            value={eyes.length === 1 && show === "differing" ? "seen" : show}
            onChange={(value) => setShow(value as ViewQuestion["show"])}
          />
          <TextInput
            size="xs"
            aria-label={`Search in ${table.label}`}
            placeholder="Search"
            value={search}
            onChange={(event) => setSearch(event.currentTarget.value)}
          />
          <Button size="compact-xs" variant="default" onClick={() => keep(eyes[0] ?? "visitor", undefined)}>
            Add the counts as an expectation
          </Button>
          <Text size="sm" role="status" className="soft">
            {said}
          </Text>
        </Group>
        <SeenTable
          key={`${table.name} ${eyes.join(" ")} ${show} ${sought} ${turn}`}
          table={table}
          eyes={eyes}
          show={eyes.length === 1 && show === "differing" ? "seen" : show}
          search={sought}
          asked={place}
          onAsk={setPlace}
        />
      </section>
      {place !== undefined && (
        <Why
          key={`${place.eye} ${place.key} ${place.field}`}
          place={place}
          table={table}
          onClose={() => setPlace(undefined)}
          onKeep={() => keep(place.eye, place.key)}
        />
      )}
    </div>
  );
}
