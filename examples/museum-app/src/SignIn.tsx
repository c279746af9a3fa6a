import { Badge, Button, Stack, Table, Text, Title } from "@mantine/core";
import type { ReactNode } from "react";
import { useEffect, useState } from "react";
import { get, post } from "./api.js";
import { useMuseum } from "./session.js";

interface People {
  readonly people: readonly {
    readonly id: string;
    readonly name: string;
    readonly post: string;
    readonly active: boolean;
  }[];
  readonly delegations: readonly { readonly of: string; readonly to: string }[];
}

/** Made-up people to be: this page stands for a real sign-in. */
export function SignIn(): ReactNode {
  const { refresh } = useMuseum();
  const [found, setFound] = useState<People>();
  useEffect(() => {
    get<People>("/people").then(setFound);
  }, []);
  const enter = async (person: string, actedBy?: string) => {
    await post("/sign-in", { person, ...(actedBy === undefined ? {} : { actedBy }) });
    window.location.hash = "";
    refresh();
  };
  const nameOf = (id: string) => found?.people.find((one) => one.id === id)?.name ?? id;
  return (
    <Stack maw="46rem">
      <Title order={1} size="h2">
        Who are you?
      </Title>
      <Text c="dimmed">
        All of them are made up, and there is no password. What each sees and may do, the rules say.
      </Text>
      <Table aria-label="People">
        <Table.Tbody>
          {found?.people.map(({ id, name, post: role, active }) => (
            <Table.Tr key={id}>
              <Table.Td>
                {name} {!active && <Badge color="gray">left</Badge>}
              </Table.Td>
              <Table.Td>{role}</Table.Td>
              <Table.Td>
                <Button size="compact-sm" variant="light" aria-label={`Sign in as ${name}`} onClick={() => enter(id)}>
                  Sign in
                </Button>{" "}
                {found.delegations
                  .filter(({ to }) => to === id)
                  .map(({ of }) => (
                    <Button key={of} size="compact-sm" variant="subtle" onClick={() => enter(of, id)}>
                      for {nameOf(of)}
                    </Button>
                  ))}
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Stack>
  );
}
