import { Alert, Button, Group, TextInput } from "@mantine/core";
import { type ReactNode, useState } from "react";
import { printAddress, useAddress } from "./address.js";
import { useProject } from "./project.js";
import { useAnswer } from "./use-answer.js";
import type { LineOf, MembershipLine } from "./worker/protocol.js";
import { ask } from "./worker-client.js";

/** Roles and groups: drawn, in sentences, with everybody in them and through what; and the lines of managers. */
export function Roles(): ReactNode {
  const { turn } = useProject();
  const { answer, failure } = useAnswer(() => ask("memberships"), String(turn));
  const [chosen, setChosen] = useState<string>();
  if (failure !== undefined) return <p className="failure">{failure}</p>;
  if (answer === undefined) return <p className="opening">…</p>;
  const shown = answer.names.find(({ name }) => name === chosen) ?? answer.names[0];
  return (
    <section aria-label="Roles and groups" className="roles">
      {answer.picture !== undefined && (
        // biome-ignore lint/security/noDangerouslySetInnerHtml: the report draws it, and escapes every name
        <div className="picture" dangerouslySetInnerHTML={{ __html: answer.picture }} />
      )}
      <div className="columns">
        <nav aria-label="Roles and groups" className="tables">
          {answer.names.map(({ name, kind, members }) => (
            <button
              key={name}
              type="button"
              aria-current={name === shown?.name ? "true" : undefined}
              onClick={() => setChosen(name)}
            >
              {name} <span className="soft">{kind === "group" ? `group, ${members.length}` : members.length}</span>
            </button>
          ))}
        </nav>
        {shown !== undefined && <Membership key={shown.name} line={shown} />}
        {answer.line.length > 0 && (
          <section aria-label="Who is above whom" className="managers">
            <h2>Who is above whom</h2>
            <Managers line={answer.line} />
          </section>
        )}
      </div>
    </section>
  );
}

function Membership({ line: { name, kind, note, facts, sentences, members } }: { line: MembershipLine }): ReactNode {
  const [address, go] = useAddress();
  const { add } = useProject();
  const [copy, setCopy] = useState("");
  const [failure, setFailure] = useState<string>();
  const copyPart = async () => {
    setFailure(undefined);
    try {
      await add({ kind: "role", role: name, name: copy.trim() });
      go({ view: "rules" });
    } catch (error) {
      setFailure((error as Error).message);
    }
  };
  return (
    <section aria-label={name} className="membership">
      <h2>{name}</h2>
      {note !== undefined && <p>{note}</p>}
      {facts.length > 0 && <p className="soft">{facts.join("; ")}</p>}
      <h3>{members.length === 0 ? "Nobody" : members.length === 1 ? "One person" : `${members.length} people`}</h3>
      <ul>
        {members.map(({ id, name: called, ways }) => (
          <li key={id}>
            <a href={printAddress({ ...address, view: "view-as", as: id })}>{called}</a>{" "}
            <span className="soft">{ways.join("; ")}</span>
          </li>
        ))}
      </ul>
      {sentences.length > 0 && (
        <>
          <h3>Permissions</h3>
          <ul>
            {sentences.map((sentence) => (
              <li key={sentence}>{sentence}</li>
            ))}
          </ul>
        </>
      )}
      {kind === "role" && (
        <Group align="end" mt="sm">
          <TextInput
            size="xs"
            label="New role with the same permissions"
            placeholder="its name"
            value={copy}
            onChange={(event) => setCopy(event.currentTarget.value)}
          />
          <Button size="xs" variant="default" disabled={copy.trim() === ""} onClick={copyPart}>
            Copy the part
          </Button>
        </Group>
      )}
      {failure !== undefined && <Alert color="orange">{failure}</Alert>}
    </section>
  );
}

function Managers({ line }: { line: readonly LineOf[] }): ReactNode {
  const [address] = useAddress();
  return (
    <ul>
      {line.map(({ id, name, below }) => (
        <li key={id}>
          <a href={printAddress({ ...address, view: "view-as", as: id })}>{name}</a>
          {below.length > 0 && <Managers line={below} />}
        </li>
      ))}
    </ul>
  );
}
