import { Button, Group, Select, TextInput } from "@mantine/core";
import type { Row } from "portier";
import { type ReactNode, useEffect, useState } from "react";
import { listRecords } from "./api.js";
import { useMuseum } from "./session.js";

export type RoleChange = {
  readonly kind: "assign" | "revoke" | "replace";
  readonly person: string;
  readonly role: string;
  /** Of a role that takes the place of another: that one. */
  readonly insteadOf?: string;
  /** The record on which a scoped role is held. */
  readonly on?: string;
  readonly until?: string;
  readonly reason?: string;
};

export interface KnownRole {
  readonly name: string;
  readonly note?: string;
  /** The table on whose records it is held. */
  readonly scope?: string;
}

interface AssignProps {
  readonly people: readonly { readonly id: string; readonly name: string }[];
  readonly roles: readonly KnownRole[];
  readonly onPreview: (change: RoleChange) => void;
}

/** A role for somebody, of one record where it is held on one, and until a day where it is for a time. */
export function AssignRole({ people, roles, onPreview }: AssignProps): ReactNode {
  const { labelOf } = useMuseum();
  const [person, setPerson] = useState<string | null>(null);
  const [chosen, setRole] = useState<string | null>(null);
  const role = chosen ?? roles[0]?.name ?? null;
  const [on, setOn] = useState<string | null>(null);
  const [until, setUntil] = useState("");
  const [reason, setReason] = useState("");
  const [records, setRecords] = useState<readonly Row[]>([]);
  const scope = roles.find(({ name }) => name === role)?.scope;
  useEffect(() => {
    setOn(null);
    if (scope !== undefined) listRecords(scope, { limit: "500" }).then((page) => setRecords(page.records));
  }, [scope]);
  const isReady = person !== null && role !== null && (scope === undefined || on !== null);
  return (
    <Group align="end">
      <Select
        label="Person"
        searchable
        data={people.map(({ id, name }) => ({ value: id, label: name }))}
        value={person}
        onChange={setPerson}
      />
      <Select label="Role" data={roles.map(({ name }) => name)} value={role} onChange={setRole} />
      {scope !== undefined && (
        <Select
          label="Of"
          searchable
          data={records.map(({ id }) => ({ value: String(id), label: labelOf(scope, id) }))}
          value={on}
          onChange={setOn}
        />
      )}
      <TextInput label="Until" type="date" value={until} onChange={(event) => setUntil(event.currentTarget.value)} />
      <TextInput label="Reason" value={reason} onChange={(event) => setReason(event.currentTarget.value)} />
      <Button
        disabled={!isReady}
        onClick={() =>
          isReady &&
          onPreview({
            kind: "assign",
            person,
            role,
            ...(on === null ? {} : { on }),
            ...(until === "" ? {} : { until }),
            ...(reason === "" ? {} : { reason }),
          })
        }
      >
        What would they gain?
      </Button>
    </Group>
  );
}
