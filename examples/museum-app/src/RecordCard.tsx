import { Alert, Anchor, Button, Checkbox, Group, Modal, Select, Text, TextInput, Title } from "@mantine/core";
import type { Form, Row } from "portier";
import { type AccessField, AccessFields, type Change, useChange } from "portier/react";
import type { ReactNode } from "react";
import { useCallback, useEffect, useState } from "react";
import { actOn, createRecord, editRecord, type OpenedForm, openForm } from "./api.js";
import { linkTo } from "./route.js";
import { useMuseum } from "./session.js";
import { words } from "./words.js";

interface CardProps {
  readonly table: string;
  /** Undefined for a new one. */
  readonly recordKey: string | undefined;
  readonly screen: string;
}

/** One record as its form says: what is hidden is not there, what is locked is read, what may be changed is an input. */
export function RecordCard({ table, recordKey, screen }: CardProps): ReactNode {
  const { snapshot } = useMuseum();
  const [opened, setOpened] = useState<OpenedForm>();
  const [failure, setFailure] = useState<string>();
  const load = useCallback(() => {
    openForm(table, recordKey).then(setOpened, (error: Error) => setFailure(error.message));
  }, [table, recordKey]);
  useEffect(() => {
    if (snapshot !== undefined) load();
  }, [load, snapshot]);
  if (failure !== undefined) {
    return (
      <Alert title="This record cannot be shown" color="gray">
        {failure} <Anchor href={linkTo(screen)}>Back to the list</Anchor>
      </Alert>
    );
  }
  if (opened === undefined) return null;
  return <Opened key={opened.etag ?? ""} {...{ table, recordKey, screen, opened, load }} />;
}

interface OpenedProps extends CardProps {
  readonly opened: OpenedForm;
  readonly load: () => void;
}

function Opened({ table, recordKey, screen, opened, load }: OpenedProps): ReactNode {
  const { form, etag } = opened;
  const [values, setValues] = useState<Row>(form.isNew ? defaultsOf(form) : {});
  const change = useChange<Row>(
    useCallback(
      (given, options) =>
        recordKey === undefined
          ? createRecord(table, given, options)
          : editRecord(table, recordKey, etag, given, options),
      [table, recordKey, etag],
    ),
  );
  const act = useChange<string>(
    useCallback((action, options) => actOn(table, recordKey ?? "", action, options), [table, recordKey]),
  );
  const finish = (outcome: Awaited<ReturnType<Change<Row>["submit"]>>) => {
    if (outcome?.accepted !== true) return;
    if (recordKey === undefined) window.location.hash = linkTo(screen);
    else load();
  };
  const finishAct = (outcome: Awaited<ReturnType<Change<string>["submit"]>>) => {
    if (outcome?.accepted !== true) return;
    if (outcome.record === undefined) window.location.hash = linkTo(screen);
    else load();
  };
  const isOpen = form.fields.some(({ state, blind }) => state === "editable" || state === "confirm" || blind);
  const changed = Object.keys(values).length;
  const others = form.actions.filter(
    ({ name, permitted }) =>
      permitted && !["edit", "create", "list", "view", "export", "bulk", "import"].includes(name),
  );
  return (
    <form
      aria-label={recordKey ?? `New in ${table}`}
      onSubmit={async (event) => {
        event.preventDefault();
        finish(await change.submit(values));
      }}
    >
      <Anchor href={linkTo(screen)} size="sm">
        ← {form.label}
      </Anchor>
      <Title order={1} size="h2" mb="md">
        {recordKey ?? "New"}
      </Title>
      <div className="fields">
        <AccessFields form={form}>
          {(field) => (
            <FieldInput
              table={table}
              field={field}
              value={Object.hasOwn(values, field.name) ? values[field.name] : field.value}
              error={change.refusalOf(field.name)?.message}
              onChange={(value) => setValues({ ...values, [field.name]: value })}
            />
          )}
        </AccessFields>
      </div>
      <Outcome change={change} done={recordKey === undefined ? "Created." : "Saved."} />
      <Outcome change={act} done="Done." />
      <Group mt="lg">
        {isOpen && (
          <Button type="submit" disabled={changed === 0} loading={change.state === "sending"}>
            {form.isNew ? "Create" : "Save"}
          </Button>
        )}
        {others.map(({ name }) => (
          <Button
            key={name}
            variant={name === "delete" ? "outline" : "light"}
            color={name === "delete" ? "wine" : "tide"}
            onClick={async () => finishAct(await act.submit(name))}
          >
            {words(name)}
          </Button>
        ))}
        {!isOpen && <Text c="dimmed">You may view this, but not change it.</Text>}
      </Group>
      <Identity change={change} onDone={finish} />
      <Identity change={act} onDone={finishAct} />
    </form>
  );
}

function defaultsOf(form: Form): Row {
  const given = form.fields.filter(
    ({ value, state }) => value !== undefined && value !== null && state !== "hidden" && state !== "read-only",
  );
  return Object.fromEntries(given.map(({ name, value }) => [name, value]));
}

interface InputProps {
  readonly table: string;
  readonly field: AccessField;
  readonly value: unknown;
  readonly error: string | undefined;
  readonly onChange: (value: unknown) => void;
}

function FieldInput({ table, field, value, error, onChange }: InputProps): ReactNode {
  const { shapes, labelOf } = useMuseum();
  const { control, name, label: fieldLabel, state, note, confirm, blind, choices } = field;
  const shape = shapes[table]?.fields.find((one) => one.name === name);
  const target = shape?.target;
  const hint = note ?? (state === "confirm" ? confirm?.map((one) => one.note).join(" ") : undefined);
  const label = `${fieldLabel}${state === "read-only" ? " (read only)" : state === "confirm" ? " (to be confirmed)" : ""}`;
  const shared = {
    label,
    description: hint,
    error,
    ...(blind ? { placeholder: "hidden from you" } : {}),
    withAsterisk: control.required && state !== "read-only",
  };
  if (shape?.type === "boolean" && state !== "read-only") {
    return (
      <Checkbox
        id={control.id}
        {...shared}
        checked={value === true}
        onChange={(event) => onChange(event.currentTarget.checked)}
      />
    );
  }
  if (choices !== undefined && state !== "read-only") {
    const data = choices.map((choice) => ({
      value: String(choice),
      label: target === undefined ? words(String(choice)) : labelOf(target, choice),
    }));
    const current = value === null || value === undefined ? null : String(value);
    return (
      <Select
        id={control.id}
        {...shared}
        data={
          current === null || data.some((one) => one.value === current)
            ? data
            : [...data, { value: current, label: current }]
        }
        value={current}
        searchable
        clearable={!control.required}
        onChange={(next) => onChange(next)}
      />
    );
  }
  const text =
    value === null || value === undefined ? "" : target === undefined ? String(value) : labelOf(target, value);
  return (
    <TextInput
      id={control.id}
      {...shared}
      readOnly={control.readOnly}
      variant={control.readOnly ? "filled" : "default"}
      value={text}
      onChange={(event) => {
        const next = event.currentTarget.value;
        onChange(next === "" ? null : shape?.type === "integer" ? Number(next) : next);
      }}
    />
  );
}

/** What became of a change, in words. */
function Outcome<V>({ change, done }: { change: Change<V>; done: string }): ReactNode {
  if (change.state === "done") {
    return (
      <Text role="status" mt="md" c="teal">
        {done}
      </Text>
    );
  }
  if (change.state === "failed") {
    return (
      <Alert mt="md" color="red" title="Nothing was changed">
        {change.error instanceof Error ? change.error.message : "The change could not be sent."}
      </Alert>
    );
  }
  if (change.state !== "refused") return null;
  return (
    <Alert mt="md" color="orange" title="Refused">
      {[...new Set(change.refusals.map(({ message }) => message))].join(" ") || "You may not do this."}
    </Alert>
  );
}

function Identity<V>({
  change,
  onDone,
}: {
  change: Change<V>;
  onDone: (outcome: Awaited<ReturnType<Change<V>["submit"]>>) => void;
}): ReactNode {
  return (
    <Modal opened={change.state === "asking"} onClose={change.cancel} title="Please confirm" centered>
      {change.asking.map(({ rule, note }) => (
        <Text key={rule}>{note ?? "Please confirm this."}</Text>
      ))}
      <Group mt="md">
        <Button onClick={async () => onDone(await change.confirm())}>Yes, do it</Button>
        <Button variant="default" onClick={change.cancel}>
          No
        </Button>
      </Group>
    </Modal>
  );
}
