import type { Data } from "../../document/data.js";
import type { Portier } from "../../session/portier.js";
import type { ExpectationData } from "../../verify/expectations/asked.js";
import { personViewers, type Viewer } from "../../verify/viewers.js";
import type { Loaded, SharedOptions } from "../load.js";
import type { ExpectationFile } from "./expectation-files.js";

/** What every way of testing works on. */
export interface Testing extends Loaded {
  /** The document's file. */
  readonly file: string;
  readonly data: Data;
  readonly shared: SharedOptions;
  readonly files: readonly ExpectationFile[];
}

/** What expectations are looked at with under a document, the one that is tested or one that was changed. */
export function askedOf({ data, shared }: Testing, portier: Portier): ExpectationData {
  return {
    source: portier.source(Object.fromEntries(data.tables)),
    records: (table) => data.tables.get(table) ?? [],
    options: { request: shared.request, onDiagnostic: shared.onDiagnostic },
  };
}

/** Everybody under a document. */
export function everybodyUnder(testing: Testing, portier: Portier): Viewer[] {
  const { people } = portier.schema;
  const { source, options } = askedOf(testing, portier);
  return personViewers(portier, (people && testing.data.tables.get(people.table.name)) ?? [], { ...options, source });
}
