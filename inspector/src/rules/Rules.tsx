import { Alert, Button, Checkbox, Group, Tabs, Text } from "@mantine/core";
import { type ReactNode, useState } from "react";
import { useAddress } from "../address.js";
import { useProject } from "../project.js";
import { useAnswer } from "../use-answer.js";
import { SeenTable } from "../view-as/SeenTable.js";
import { type Place, Why } from "../view-as/Why.js";
import { ask } from "../worker-client.js";
import { Copy } from "./Copy.js";
import { Differences } from "./Differences.js";
import { Editor } from "./Editor.js";

/** What is wrong at the top is often why all else is: the first are enough to go on. */
const mostRemarks = 20;

type Side = "remarks" | "differences" | "data" | "copy";

/** The rules as they are written, and beside them what they come to. */
export function Rules(): ReactNode {
  const [address] = useAddress();
  const { text, document, overview, remarks, compiles, judged, turn, write, save } = useProject();
  const [side, setSide] = useState<Side>("remarks");
  const [path, setPath] = useState<readonly string[]>([]);
  const [asked, setAsked] = useState<Place>();
  const [line, setLine] = useState<number>();
  const [isComparing, setIsComparing] = useState(false);
  const [said, setSaid] = useState<string>();
  const { answer: warnings = [] } = useAnswer(
    () => (compiles ? ask("warnings") : Promise.resolve([])),
    `${turn} ${compiles}`,
  );
  const isUnsaved = text !== document.text;
  const {
    answer: found,
    failure,
    isAsking,
  } = useAnswer(
    () => (side === "differences" ? ask("differences") : Promise.resolve({ people: [], rules: [] })),
    `${turn} ${side} ${document.version}`,
  );
  const all = compiles ? warnings : remarks;
  const table = overview.tables.find(({ name }) => path[0] === "tables" && name === path[1]) ?? overview.tables[0];
  const eyes = [address.as ?? "visitor", ...(address.compare === undefined ? [] : [address.compare])];

  // Whether who gains and loses by just this text is on the screen.
  const isShown = side === "differences" && !isAsking && judged === text;
  // The first time it asks that; then it saves.
  const trySave = async () => {
    setSaid(undefined);
    if (!compiles) return setSaid("The rules have errors. Fix them before saving.");
    if (!isUnsaved) return setSaid("No changes to save.");
    if (!isShown) return setSide("differences");
    try {
      await save();
      return setSaid("Saved.");
    } catch (error) {
      return setSaid((error as Error).message);
    }
  };
  return (
    <section aria-label="Rules" className="rules-view">
      <div className="text">
        <Editor
          text={text}
          before={isComparing ? document.text : undefined}
          remarks={all.slice(0, mostRemarks)}
          overview={overview}
          line={line ?? address.line}
          onChange={(next) => {
            setSaid(undefined);
            write(next);
          }}
          onSave={trySave}
          onPlace={(next) => setPath((known) => (known.join("/") === next.join("/") ? known : next))}
        />
        <Group className="bar">
          <Button size="xs" disabled={!isUnsaved || !compiles} onClick={trySave}>
            {isShown ? "Save" : "Save …"}
          </Button>
          <Button size="xs" variant="default" disabled={!isUnsaved} onClick={() => write(document.text)}>
            Revert
          </Button>
          <Checkbox
            size="xs"
            label="show changes only"
            checked={isComparing}
            onChange={() => setIsComparing(!isComparing)}
          />
          <Text size="sm" role="status">
            {said ?? (compiles ? "" : `${remarks.length} ${remarks.length === 1 ? "error" : "errors"}`)}
          </Text>
        </Group>
      </div>
      <Tabs
        value={side}
        onChange={(value) => value !== null && setSide(value as Side)}
        className="side"
        keepMounted={false}
      >
        <Tabs.List>
          <Tabs.Tab value="remarks">Remarks{all.length > 0 && ` (${all.length})`}</Tabs.Tab>
          <Tabs.Tab value="differences">Gains and losses</Tabs.Tab>
          <Tabs.Tab value="data">Data</Tabs.Tab>
          <Tabs.Tab value="copy">Copy</Tabs.Tab>
        </Tabs.List>
        <Tabs.Panel value="remarks">
          {all.length === 0 && <p>No errors, no warnings.</p>}
          <ul className="remarks">
            {all.slice(0, mostRemarks).map((remark) => (
              <li key={`${remark.line} ${remark.column} ${remark.code} ${remark.message}`}>
                <button type="button" onClick={() => setLine(remark.line)}>
                  <b>{remark.kind}</b> line {remark.line ?? "?"}: {remark.message}
                  {remark.hint !== undefined && ` ${remark.hint}`} <span className="soft">{remark.code}</span>
                </button>
              </li>
            ))}
          </ul>
          {all.length > mostRemarks && <p className="soft">and {all.length - mostRemarks} more</p>}
        </Tabs.Panel>
        <Tabs.Panel value="differences">
          {!compiles && (
            <Alert color="orange">
              The rules have errors: these answers come from the last version without errors.
            </Alert>
          )}
          {failure !== undefined && <p className="failure">{failure}</p>}
          {found !== undefined && <Differences found={found} />}
        </Tabs.Panel>
        <Tabs.Panel value="data" className="seen">
          {table !== undefined && (
            <>
              <p className="soft">The table that the cursor is in: {table.name}.</p>
              <SeenTable
                key={`${table.name} ${eyes.join(" ")} ${turn}`}
                table={table}
                eyes={eyes}
                show="seen"
                search=""
                asked={asked}
                onAsk={setAsked}
              />
              {asked !== undefined && (
                <Why
                  key={`${asked.eye} ${asked.key} ${asked.field}`}
                  place={asked}
                  table={table}
                  onClose={() => setAsked(undefined)}
                  onKeep={undefined}
                />
              )}
            </>
          )}
        </Tabs.Panel>
        <Tabs.Panel value="copy">
          <Copy onDone={() => setSide("differences")} />
        </Tabs.Panel>
      </Tabs>
    </section>
  );
}
