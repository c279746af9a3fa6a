import { compile, PortierError } from "portier";
import { parseDocument } from "portier/document";

/** The codes of what is wrong with a document; none where it compiles. */
export function codesOf(text: string): readonly string[] {
  try {
    compile(parseDocument(text).document);
  } catch (error) {
    if (error instanceof PortierError) return error.problems.map(({ code }) => code);
    throw error;
  }
  return [];
}
