import type { ExtentInput } from "../schema/document.js";

/** An extent as a rule writes it that speaks of cells. */
export type WrittenCells = Extract<ExtentInput, { readonly cells: unknown }>;

export function isCells(extent: ExtentInput | undefined): extent is WrittenCells {
  return typeof extent === "object" && "cells" in extent;
}

/** Ranges as a list, however many were written. */
export function textsOf(written: string | readonly string[] | undefined): readonly string[] {
  if (written === undefined) return [];
  return typeof written === "string" ? [written] : written;
}
