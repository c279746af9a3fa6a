import { Alert, Button, Group, Select, Stack, Table, Text, Title } from "@mantine/core";
import type { ReactNode } from "react";
import { useCallback, useEffect, useState } from "react";
import { AssignRole, type KnownRole, type RoleChange } from "./AssignRole.js";
import { ApiError, get, post } from "./api.js";
import { useMuseum } from "./session.js";

interface Assignment {
  readonly id: string;
  readonly person: string;
  readonly role: string;
  readonly on: string | null;
  readonly until: string | null;
  readonly reason: string | null;
}

interface Held {
  readonly assignments: readonly Assignment[];
  readonly roles: readonly KnownRole[];
  readonly entries: readonly {
    readonly at: string;
    readonly kind: string;
    readonly person: string;
    readonly by: string | null;
    readonly reason: string | null;
  }[];
}

interface Line {
  readonly table: string;
  readonly actions: readonly string[];
  readonly fields: readonly string[];
  readonly records?: number;
  readonly of: number;
}

interface Preview {
  readonly outcome: {
    readonly accepted: boolean;
    readonly problems?: readonly { readonly message: string; readonly hint?: string }[];
    readonly warnings: readonly { readonly id: string; readonly message: string }[];
  };
  readonly gains: readonly Line[];
  readonly losses: readonly Line[];
}

/** Who has which role, giving and taking, with what comes of it before it is done. */
export function Roles(): ReactNode {
  const { labelOf, snapshot } = useMuseum();
  const [held, setHeld] = useState<Held>();
  const [people, setPeople] = useState<readonly { id: string; name: string }[]>([]);
  const [asked, setAsked] = useState<{ change: RoleChange; preview: Preview }>();
  const [said, setSaid] = useState<string>();
  const load = useCallback(() => {
    get<Held>("/roles").then(setHeld, (error: Error) => setSaid(error.message));
  }, []);
  useEffect(() => {
    if (snapshot !== undefined) load();
    get<{ people: { id: string; name: string }[] }>("/people").then((found) => setPeople(found.people));
  }, [load, snapshot]);
  const preview = async (change: RoleChange) => {
    setSaid(undefined);
    try {
      setAsked({ change, preview: await post<Preview>("/roles/preview", { change }) });
    } catch (error) {
      setSaid(error instanceof ApiError ? error.message : String(error));
    }
  };
  const make = async () => {
    if (asked === undefined) return;
    const confirmed = asked.preview.outcome.warnings.map(({ id }) => id);
    try {
      await post("/roles", { change: asked.change, confirmed });
      setSaid("Done.");
    } catch (error) {
      setSaid(
        error instanceof ApiError
          ? ((error.problem as { problems?: { message: string }[] }).problems?.[0]?.message ?? error.message)
          : String(error),
      );
    }
    setAsked(undefined);
    load();
  };
  return (
    <Stack>
      <Title order={1} size="h2">
        Roles
      </Title>
      <AssignRole people={people} roles={held?.roles ?? []} onPreview={preview} />
      {said !== undefined && <Alert role="status">{said}</Alert>}
      {asked !== undefined && (
        <Asked
          {...asked}
          name={labelOf("staff", asked.change.person)}
          onMake={make}
          onLeave={() => setAsked(undefined)}
        />
      )}
      <Title order={2} size="h4">
        Assigned
      </Title>
      <div className="records">
        <Table aria-label="Assigned roles">
          <Table.Tbody>
            {held?.assignments.map(({ id, person: who, role: name, on, until, reason }) => (
              <Table.Tr key={id}>
                <Table.Td>{labelOf("staff", who)}</Table.Td>
                <Table.Td>
                  {name} {on !== null && `of ${labelOf("exhibitions", on)}`}
                </Table.Td>
                <Table.Td>{until === null ? "" : `until ${until.slice(0, 10)}`}</Table.Td>
                <Table.Td>{reason}</Table.Td>
                <Table.Td>
                  <Select
                    size="xs"
                    w={130}
                    aria-label={`Change ${name}: ${labelOf("staff", who)}`}
                    placeholder="Change to"
                    value={null}
                    data={othersLike(held.roles, name)}
                    onChange={(role) =>
                      role !== null &&
                      preview({ kind: "replace", person: who, role, insteadOf: name, ...(on === null ? {} : { on }) })
                    }
                  />
                </Table.Td>
                <Table.Td>
                  <Button
                    size="compact-sm"
                    variant="light"
                    aria-label={`Revoke ${name} from ${labelOf("staff", who)}`}
                    onClick={() => preview({ kind: "revoke", person: who, role: name, ...(on === null ? {} : { on }) })}
                  >
                    Revoke
                  </Button>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </div>
      <Title order={2} size="h4">
        History
      </Title>
      <Table aria-label="History">
        <Table.Tbody>
          {held?.entries.map(({ at, kind, person: whom, by, reason }) => (
            <Table.Tr key={`${at} ${kind} ${whom}`}>
              <Table.Td>{at.slice(0, 16).replace("T", " ")}</Table.Td>
              <Table.Td>{kind}</Table.Td>
              <Table.Td>{labelOf("staff", whom)}</Table.Td>
              <Table.Td>{by === null ? "" : `by ${labelOf("staff", by)}`}</Table.Td>
              <Table.Td>{reason}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Stack>
  );
}

/** The roles that may take the place of another: held as it is, from least to most. */
function othersLike(roles: readonly KnownRole[], name: string): string[] {
  const scope = roles.find((role) => role.name === name)?.scope;
  return roles.filter((role) => role.scope === scope && role.name !== name).map((role) => role.name);
}

interface AskedProps {
  readonly change: RoleChange;
  readonly preview: Preview;
  readonly name: string;
  readonly onMake: () => void;
  readonly onLeave: () => void;
}

function Asked({ change, preview, name, onMake, onLeave }: AskedProps): ReactNode {
  const { labelOf } = useMuseum();
  const { outcome, gains, losses } = preview;
  const verb = change.kind === "revoke" ? "loses" : "is assigned";
  const instead = change.insteadOf === undefined ? "" : ` instead of ${change.insteadOf}`;
  const of = change.on === undefined ? "" : ` of ${labelOf("exhibitions", change.on)}`;
  const isRefused = (outcome.problems ?? []).length > 0;
  return (
    <Alert
      title={`${name} ${verb} ${change.role}${of}${instead}`}
      color={isRefused ? "orange" : "tide"}
      data-testid="asked"
    >
      {outcome.problems?.map(({ message, hint }) => (
        <Text key={message}>
          {message}
          {hint !== undefined && `; ${hint}`}
        </Text>
      ))}
      {outcome.warnings.map(({ id, message }) => (
        <Text key={id} fw={600}>
          {message}
        </Text>
      ))}
      <Lines sign="+" lines={gains} />
      <Lines sign="−" lines={losses} />
      <Group mt="sm">
        {!isRefused && (
          <Button onClick={onMake}>
            {change.kind === "revoke" ? "Revoke" : change.kind === "replace" ? "Change" : "Assign"}
          </Button>
        )}
        <Button variant="default" onClick={onLeave}>
          Cancel
        </Button>
      </Group>
    </Alert>
  );
}

function Lines({ sign, lines }: { sign: string; lines: readonly Line[] }): ReactNode {
  return lines.slice(0, 8).map(({ table, actions, fields, records, of }) => (
    <Text size="sm" key={`${table} ${actions} ${fields}`}>
      {sign} {actions.join(", ")} {fields.join(", ")}{" "}
      {records === undefined ? `of new ${table}` : `on ${records} of ${of} ${table}`}
    </Text>
  ));
}
