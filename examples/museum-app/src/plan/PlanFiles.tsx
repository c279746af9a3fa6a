import { Alert, Button, FileButton, Group, Text } from "@mantine/core";
import type { Row } from "portier";
import { type ReactNode, useState } from "react";
import type { ShapeField } from "../api.js";
import { type Block, fileText, readFileText } from "./block.js";
import { type PlanRange, readSheet } from "./plan-api.js";
import type { Drafted } from "./RangeForm.js";

interface FilesProps {
  readonly rows: readonly Row[];
  readonly columns: readonly ShapeField[];
  /** The cells of a file, from A1 on. */
  readonly onBlock: (block: Block) => void;
  /** Protected ranges of a workbook. */
  readonly onRanges: (ranges: readonly FileRange[]) => void;
  readonly onFailure: (said: string) => void;
}

export interface FileRange {
  readonly name: string;
  /** In A1 notation. */
  readonly ranges: readonly string[];
}

/** The plan as a file, and a file into the plan. */
export function PlanFiles({ rows, columns, onBlock, onRanges, onFailure }: FilesProps): ReactNode {
  const [turn, setTurn] = useState(0);
  const saveCsv = () => {
    const block = rows.map((row) => columns.map(({ name }) => (row[name] == null ? "" : String(row[name]))));
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([fileText(block)], { type: "text/csv;charset=utf-8" }));
    link.download = "plan.csv";
    link.click();
    URL.revokeObjectURL(link.href);
  };
  const take = async (file: File | null) => {
    if (file === null) return;
    // The same file can be chosen once more.
    setTurn(turn + 1);
    try {
      if (/\.csv$/i.test(file.name)) return onBlock(readFileText(await file.text()));
      const { cells, ranges } = await readSheet(file);
      onRanges(ranges);
      return onBlock(cells);
    } catch (error) {
      return onFailure(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <>
      <Button component="a" variant="default" href="/api/plan/sheet.xlsx" download>
        Save as XLSX
      </Button>
      <Button variant="default" onClick={saveCsv}>
        Save as CSV
      </Button>
      <FileButton
        key={turn}
        onChange={take}
        accept=".csv,.xlsx"
        inputProps={{ "aria-label": "A workbook or CSV file for the plan" }}
      >
        {(props) => (
          <Button variant="default" {...props}>
            Import a file
          </Button>
        )}
      </FileButton>
    </>
  );
}

interface FileRangesProps {
  readonly found: readonly FileRange[];
  readonly ranges: readonly PlanRange[];
  readonly mayProtect: boolean;
  readonly onDraft: (drafted: Drafted) => void;
  readonly onClose: () => void;
}

/** Protected ranges of a workbook that are not the same here, to be protected by those who may. */
export function FileRanges({ found, ranges, mayProtect, onDraft, onClose }: FileRangesProps): ReactNode {
  const others = found.filter(
    ({ ranges: cells }) => !cells.every((text) => ranges.some(({ range }) => range === text)),
  );
  if (others.length === 0) return null;
  return (
    <Alert title="Protected ranges in the file" withCloseButton closeButtonLabel="Close" onClose={onClose} mb="sm">
      {others.map((one) => (
        <Group key={`${one.name} ${one.ranges.join(" ")}`} gap="xs">
          <Text size="sm">
            {one.ranges.join(" ")} “{one.name}” is not here.
          </Text>
          {mayProtect && (
            <Button
              size="compact-xs"
              variant="default"
              onClick={() => onDraft({ proposed: { cells: one.ranges.join(" "), note: one.name } })}
            >
              Protect it here
            </Button>
          )}
        </Group>
      ))}
    </Alert>
  );
}
