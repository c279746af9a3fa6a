interface TableTypes<Row> {
  readonly row: Row;
  readonly values?: object;
  readonly action: string;
}

/**
 * What TypeScript knows of a document: of each table the type of its records, the values that a change may give (default: some of
 * the record's) and its custom actions; of the people the type of their keys; the values of a request.
 */
export interface DocumentTypes {
  // biome-ignore lint/suspicious/noExplicitAny: an interface is a record of any values, and not of unknown ones
  readonly tables: Readonly<Record<string, TableTypes<Record<string, any>>>>;
  readonly person?: string | number;
  readonly request?: AnyRequest;
}

/** The values of a request, where TypeScript does not know the document. */
export type AnyRequest = Readonly<Record<string, unknown>>;

/** A document that was not declared in TypeScript: any names, values of any kind. */
export interface AnyDocument {
  readonly tables: Readonly<Record<string, TableTypes<Record<string, unknown>>>>;
}

/** The name of a table. */
export type TableOf<T extends DocumentTypes> = keyof T["tables"] & string;

/** The name of a field of a table. */
export type FieldOf<T extends DocumentTypes, K extends TableOf<T>> = keyof T["tables"][K]["row"] & string;

/** A record of a table. */
export type RecordOf<T extends DocumentTypes, K extends TableOf<T>> = T["tables"][K]["row"];

/** The values that a change gives to fields of a table: some of those that hold something of their own. */
export type ValuesOf<T extends DocumentTypes, K extends TableOf<T>> = T["tables"][K] extends {
  readonly values?: infer V extends object;
}
  ? V
  : Partial<RecordOf<T, K>>;

/** The key of a person: a text or a number, where no table says which. */
export type PersonOf<T extends DocumentTypes> = T extends { readonly person: infer P extends string | number }
  ? P
  : string | number;

/** The values that come with a session: those that the document declares under `request`, any where TypeScript does not know it. */
export type RequestOf<T extends DocumentTypes> = T extends { readonly request: infer R extends AnyRequest }
  ? R
  : AnyRequest;
