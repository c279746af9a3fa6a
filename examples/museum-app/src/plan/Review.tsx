import { Button, Group, Modal, Stack, Table, Text } from "@mantine/core";
import type { ReactNode } from "react";
import type { ManyResults } from "../api.js";
import type { CellChange } from "./block.js";
import { byRecord } from "./plan-api.js";

/** A change of cells that was not done: what of it is refused, and what is left to be done. */
export interface Reviewed {
  readonly refused: readonly { readonly address: string; readonly message: string }[];
  /** What may be done without those. */
  readonly rest: readonly CellChange[];
  /** What is asked first. */
  readonly questions: readonly { readonly rule: string; readonly note?: string }[];
  /** Rows of a block below the last row. */
  readonly rowsBeyond: number;
}

/** Tells the refused cells from the others by what the server said of each record. */
export function reviewOf(changes: readonly CellChange[], { results }: ManyResults, rowsBeyond: number): Reviewed {
  const refused: { address: string; message: string }[] = [];
  const rest: CellChange[] = [];
  for (const [index, [, cells]] of byRecord(changes).entries()) {
    const result = results[index];
    const whole = result?.refusals?.find(({ field }) => field === undefined);
    for (const cell of cells) {
      const refusal = result?.refusals?.find(({ field }) => field === cell.field) ?? whole;
      const isGone = result?.accepted === false && result.reason === "not-found";
      if (refusal === undefined && !isGone) rest.push(cell);
      else refused.push({ address: cell.address, message: refusal?.message ?? "This row no longer exists." });
    }
  }
  const questions = new Map(results.flatMap(({ confirm }) => confirm ?? []).map((one) => [one.rule, one]));
  return { refused, rest, questions: [...questions.values()], rowsBeyond };
}

interface ReviewProps {
  readonly reviewed: Reviewed | undefined;
  readonly onSend: (rest: readonly CellChange[], confirmed: readonly string[]) => void;
  readonly onClose: () => void;
  /** Makes room for the rows that the plan does not have; undefined where that may not be. */
  readonly onAddRows: ((count: number) => void) | undefined;
}

const mostShown = 200;

/** Nothing has been changed yet: lists what is refused, and offers the rest. */
export function Review({ reviewed, onSend, onClose, onAddRows }: ReviewProps): ReactNode {
  const { refused = [], rest = [], questions = [], rowsBeyond = 0 } = reviewed ?? {};
  const title =
    refused.length === 0
      ? "Please confirm"
      : `${refused.length} of ${refused.length + rest.length} cells cannot be changed`;
  return (
    <Modal opened={reviewed !== undefined} onClose={onClose} title={title} size="lg">
      <Stack gap="sm">
        {refused.length > 0 && (
          <div className="refused-cells">
            <Table aria-label="What cannot be changed" striped>
              <Table.Tbody>
                {refused.slice(0, mostShown).map(({ address, message }) => (
                  <Table.Tr key={address}>
                    <Table.Th scope="row">{address}</Table.Th>
                    <Table.Td>{message}</Table.Td>
                  </Table.Tr>
                ))}
              </Table.Tbody>
            </Table>
            {refused.length > mostShown && <Text size="sm">and {refused.length - mostShown} more</Text>}
          </div>
        )}
        {rowsBeyond > 0 && (
          <Group justify="space-between">
            <Text>The block has {counted(rowsBeyond, "row")} more than the plan.</Text>
            {onAddRows !== undefined && (
              <Button variant="default" onClick={() => onAddRows(rowsBeyond)}>
                Add {counted(rowsBeyond, "row")} at the end
              </Button>
            )}
          </Group>
        )}
        {questions.map(({ rule, note }) => (
          <Text key={rule}>{note ?? "Please confirm this."}</Text>
        ))}
        <Group>
          {rest.length > 0 && (
            <Button
              onClick={() =>
                onSend(
                  rest,
                  questions.map(({ rule }) => rule),
                )
              }
            >
              {refused.length === 0 ? "Yes, change" : "Change"}{" "}
              {counted(rest.length, refused.length === 0 ? "cell" : "other cell")}
            </Button>
          )}
          <Button variant="default" onClick={onClose}>
            Leave everything as it is
          </Button>
        </Group>
      </Stack>
    </Modal>
  );
}

export function counted(count: number, what: string): string {
  return `${count} ${what}${count === 1 ? "" : "s"}`;
}
