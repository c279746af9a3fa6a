import picocolors from "picocolors";
import type { Reach } from "../session/reach.js";
import type { Io } from "./io.js";

/** Colours of the terminal; plain text where there is no terminal, or where NO_COLOR is set. Never the only mark. */
export function palette({ color }: Pick<Io, "color">) {
  const paint = picocolors.createColors(color);
  const reaches: Readonly<Record<Reach, (text: string) => string>> = {
    all: paint.green,
    some: paint.yellow,
    own: paint.cyan,
    none: paint.dim,
  };
  return {
    heading: paint.bold,
    quiet: paint.dim,
    yes: paint.green,
    no: paint.red,
    warning: paint.yellow,
    editable: paint.cyan,
    reach: (reach: Reach, text: string) => reaches[reach](text),
  };
}
