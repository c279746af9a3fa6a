/** What TypeScript knows of a document's tables: the type of their records, and their custom actions. */
export type TableTypes = Readonly<Record<string, { readonly row: object; readonly action: string }>>;

/** The tables of a document that was not declared in TypeScript: any names, values of any kind. */
export type AnyTables = Readonly<Record<string, { readonly row: Record<string, unknown>; readonly action: string }>>;

/** The name of a table. */
export type TableOf<T extends TableTypes> = keyof T & string;

/** The name of a field of a table. */
export type FieldOf<T extends TableTypes, K extends TableOf<T>> = keyof T[K]["row"] & string;
