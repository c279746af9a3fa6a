import { Alert, Button, FileButton, Modal, Table, Text } from "@mantine/core";
import Papa from "papaparse";
import type { Row } from "portier";
import { May } from "portier/react";
import type { ReactNode } from "react";
import { useState } from "react";
import { importRecords, type LineResult, type ShapeField } from "./api.js";
import { useMuseum } from "./session.js";

/** New records from a file: all of them are made, or none, with a result for each line. */
export function CsvImport({ table, onDone }: { table: string; onDone: () => void }): ReactNode {
  const { shapes } = useMuseum();
  const [results, setResults] = useState<readonly LineResult[]>();
  const [failure, setFailure] = useState<string>();
  const read = async (file: File | null) => {
    if (file === null) return;
    setFailure(undefined);
    const { data, errors } = Papa.parse<Record<string, string>>(await file.text(), {
      header: true,
      skipEmptyLines: true,
    });
    const [wrong] = errors;
    if (wrong !== undefined) return setFailure(`Line ${(wrong.row ?? 0) + 2}: ${wrong.message}`);
    const fields = new Map(shapes[table]?.fields.map((field) => [field.name, field]));
    const records = data.map((line) =>
      Object.fromEntries(Object.entries(line).map(([name, text]) => [name, readCell(text, fields.get(name))])),
    );
    try {
      const answer = await importRecords(table, records as readonly Row[]);
      setResults(answer.results);
      if (answer.accepted) onDone();
    } catch (error) {
      setFailure(error instanceof Error ? error.message : String(error));
    }
  };
  const close = () => {
    setResults(undefined);
    setFailure(undefined);
  };
  const refused = results?.filter(({ accepted }) => !accepted).length ?? 0;
  return (
    <May action="import" table={table}>
      <FileButton onChange={read} accept=".csv,text/csv" inputProps={{ "aria-label": `A CSV file for ${table}` }}>
        {(props) => (
          <Button variant="default" {...props}>
            Import CSV
          </Button>
        )}
      </FileButton>
      <Modal opened={results !== undefined || failure !== undefined} onClose={close} title="Import" size="lg">
        {failure !== undefined && <Alert color="wine">{failure}</Alert>}
        {results !== undefined && (
          <>
            <Text>
              {refused === 0
                ? `${results.length} records were imported.`
                : `Nothing was imported: ${refused} of ${results.length} lines were refused.`}
            </Text>
            <Table aria-label="Results">
              <Table.Tbody>
                {results.map((result, index) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: a line is known by its number alone
                  <Table.Tr key={index}>
                    <Table.Td>line {index + 2}</Table.Td>
                    <Table.Td>
                      {result.accepted
                        ? "fine"
                        : (result.refusals ?? []).map(({ field, message }) => `${field ?? ""} ${message}`).join(" ") ||
                          result.reason}
                    </Table.Td>
                  </Table.Tr>
                ))}
              </Table.Tbody>
            </Table>
          </>
        )}
      </Modal>
    </May>
  );
}

/** A cell as the field's type has it; what does not fit is left for the rules to refuse. */
function readCell(text: string, field: ShapeField | undefined): unknown {
  if (text === "") return null;
  if (field?.type === "integer" && /^-?\d+$/.test(text)) return Number(text);
  if (field?.type === "boolean" && /^(?:true|false)$/.test(text)) return text === "true";
  return text;
}
