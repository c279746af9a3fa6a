import { Alert, Button, Checkbox, Group, Pagination, Table, Text, TextInput, Title } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import type { Row } from "portier";
import { May, usePortier } from "portier/react";
import type { ReactNode } from "react";
import { useEffect, useState } from "react";
import { keyOf, listRecords, type Page, type ShapeField } from "./api.js";
import { BulkChange } from "./BulkChange.js";
import { CsvImport } from "./CsvImport.js";
import { linkTo } from "./route.js";
import { useMuseum } from "./session.js";

const perPage = 15;
const mostColumns = 8;

interface ListProps {
  readonly table: string;
  readonly title: string;
  readonly screen: string;
  /** A field whose value is not worth a column. */
  readonly filter?: string;
}

/** A table as the person sees it: searched, sorted and cut by the database, over what is shown to them. */
export function RecordList({ table, title, screen, filter }: ListProps): ReactNode {
  const { shapes, labelOf, snapshot } = useMuseum();
  const shape = shapes[table];
  const [search, setSearch] = useState("");
  const [sought] = useDebouncedValue(search, 250);
  const [sort, setSort] = useState("");
  const [page, setPage] = useState(1);
  const [found, setFound] = useState<Page>();
  const [failure, setFailure] = useState<string>();
  const [turn, setTurn] = useState(0);
  const [chosen, setChosen] = useState<readonly string[]>([]);
  const mayBulk = usePortier().reach("bulk", table) !== "none" && screen !== "visit";
  // Another person, or another role, sees another table.
  useEffect(() => {
    let isCurrent = snapshot !== undefined && turn >= 0;
    listRecords(table, { search: sought, sort, limit: String(perPage), offset: String((page - 1) * perPage) }).then(
      (next) => {
        if (!isCurrent) return;
        setFound(next);
        setFailure(undefined);
      },
      (error: Error) => isCurrent && setFailure(error.message),
    );
    return () => {
      isCurrent = false;
    };
  }, [table, sought, sort, page, snapshot, turn]);
  if (shape === undefined) return null;
  const seen = new Set(found?.records.flatMap((record) => Object.keys(record)) ?? []);
  const columns = shape.fields.filter(({ name }) => seen.has(name) && name !== filter).slice(0, mostColumns);
  const total = found?.total ?? 0;
  return (
    <section aria-label={title}>
      <Group justify="space-between" mb="sm" mt="md">
        <Title order={1} size="h2">
          {title}
        </Title>
        <Group gap="xs">
          <TextInput
            aria-label={`Search in ${title}`}
            placeholder="Search"
            value={search}
            onChange={(event) => {
              setSearch(event.currentTarget.value);
              setPage(1);
            }}
          />
          {screen !== "visit" && (
            <>
              <May action="export" table={table}>
                <Button component="a" variant="default" href={`/api/exports/${encodeURIComponent(table)}`} download>
                  Export CSV
                </Button>
              </May>
              <CsvImport table={table} onDone={() => setTurn(turn + 1)} />
            </>
          )}
          {screen !== "visit" && (
            <May action="create" table={table}>
              <Button component="a" href={linkTo(screen, "new")}>
                New
              </Button>
            </May>
          )}
        </Group>
      </Group>
      {failure !== undefined && (
        <Alert color="red" title="This list could not be loaded">
          {failure}
        </Alert>
      )}
      <div className="records">
        <Table striped="even" highlightOnHover>
          <Table.Thead>
            <Table.Tr>
              {mayBulk && <Table.Th>chosen</Table.Th>}
              {columns.map(({ name, label }) => (
                <Table.Th
                  key={name}
                  aria-sort={sort === name ? "ascending" : sort === `-${name}` ? "descending" : "none"}
                >
                  <button type="button" onClick={() => setSort(sort === name ? `-${name}` : name)}>
                    {label} {sort === name ? "↑" : sort === `-${name}` ? "↓" : ""}
                  </button>
                </Table.Th>
              ))}
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {found?.records.map((record) => {
              const key = keyOf(shape, record);
              return (
                <Table.Tr key={key}>
                  {mayBulk && (
                    <Table.Td>
                      <Checkbox
                        aria-label={`Select ${key}`}
                        checked={chosen.includes(key)}
                        onChange={(event) =>
                          setChosen(
                            event.currentTarget.checked ? [...chosen, key] : chosen.filter((one) => one !== key),
                          )
                        }
                      />
                    </Table.Td>
                  )}
                  {columns.map((field, index) => (
                    <Table.Td key={field.name}>
                      {index === 0 && screen !== "visit" ? (
                        <a href={linkTo(screen, key)}>{cell(record, field, labelOf)}</a>
                      ) : (
                        cell(record, field, labelOf)
                      )}
                    </Table.Td>
                  ))}
                </Table.Tr>
              );
            })}
          </Table.Tbody>
        </Table>
      </div>
      {mayBulk && (
        <BulkChange
          key={turn}
          table={table}
          keys={chosen}
          onDone={() => {
            setChosen([]);
            setTurn(turn + 1);
          }}
        />
      )}
      <Group justify="space-between" mt="xs">
        <Text size="sm" c="dimmed" role="status">
          {found === undefined ? "…" : total === 0 ? "No records." : `${total} ${total === 1 ? "record" : "records"}`}
        </Text>
        {total > perPage && (
          <Pagination
            size="sm"
            total={Math.ceil(total / perPage)}
            value={page}
            onChange={setPage}
            getControlProps={(control) => ({ "aria-label": `${control} page` })}
          />
        )}
      </Group>
    </section>
  );
}

/** A hidden value is not a value: it has a mark of its own. */
function cell(
  record: Row,
  { name, target, type }: ShapeField,
  labelOf: (table: string, key: unknown) => string,
): ReactNode {
  if (!Object.hasOwn(record, name)) {
    return (
      <span className="lock" title="Hidden from you">
        hidden
      </span>
    );
  }
  const value = record[name];
  if (value === null || value === undefined) return "";
  if (target !== undefined) return labelOf(target, value);
  return type === "boolean" ? (value === true ? "yes" : "no") : String(value);
}
