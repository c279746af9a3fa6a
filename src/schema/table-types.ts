interface TableType<Row> {
  readonly row: Row;
  readonly values?: object;
  readonly action: string;
  readonly person?: string | number;
  readonly request?: Readonly<Record<string, unknown>>;
}

/**
 * What TypeScript knows of a document's tables: the type of their records, the values that a change may give (default: some
 * of the record's), their custom actions, and where the document says more: of the people's table the type of a
 * person's key, of each the values of a request.
 */
// biome-ignore lint/suspicious/noExplicitAny: an interface is a record of any values, and not of unknown ones
export type TableTypes = Readonly<Record<string, TableType<Record<string, any>>>>;

/** The tables of a document that was not declared in TypeScript: any names, values of any kind. */
export type AnyTables = Readonly<Record<string, TableType<Record<string, unknown>>>>;

/** The name of a table. */
export type TableOf<T extends TableTypes> = keyof T & string;

/** The name of a field of a table. */
export type FieldOf<T extends TableTypes, K extends TableOf<T>> = keyof T[K]["row"] & string;

/** The values that a change gives to fields of a table: some of those that hold something of their own. */
export type ValuesOf<T extends TableTypes, K extends TableOf<T>> = T[K] extends {
  readonly values?: infer V extends object;
}
  ? V
  : Partial<T[K]["row"]>;

type PersonKeys<T extends TableTypes> = {
  readonly [K in TableOf<T>]: T[K] extends { readonly person?: infer P extends string | number } ? P : never;
}[TableOf<T>];

/** The key of a person: a text or a number, where no table says which. */
export type PersonOf<T extends TableTypes> = [PersonKeys<T>] extends [never] ? string | number : PersonKeys<T>;

type DeclaredRequest<T extends TableTypes> = {
  readonly [K in TableOf<T>]: T[K] extends { readonly request: infer R extends Readonly<Record<string, unknown>> }
    ? R
    : never;
}[TableOf<T>];

/** The values that come with a session: those that the document declares under `request`, any where TypeScript does not know it. */
export type RequestOf<T extends TableTypes> = [DeclaredRequest<T>] extends [never]
  ? Readonly<Record<string, unknown>>
  : DeclaredRequest<T>;
