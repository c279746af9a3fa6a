import ts from "typescript";

/** What an editor shows of a program that uses the sources: at each mark `«`, the hover in one line, or the completions. */
export interface Editor {
  readonly hovers: readonly string[];
  readonly completions: readonly (readonly string[])[];
}

/** Opens a program, as of the folder of tests of types, in the language service that editors use. */
export function inEditor(marked: string): Editor {
  const { config } = ts.readConfigFile("tsconfig.json", ts.sys.readFile);
  const { options } = ts.parseJsonConfigFileContent(config, ts.sys, process.cwd());
  const file = `${process.cwd()}/test/define/in-editor.ts`;
  const parts = marked.split("«");
  const positions = parts.slice(0, -1).map((_, index) => parts.slice(0, index + 1).join("").length);
  const read = (path: string) => (path === file ? parts.join("") : ts.sys.readFile(path));
  const service = ts.createLanguageService({
    getScriptFileNames: () => [file],
    getScriptVersion: () => "1",
    getScriptSnapshot: (path) => {
      const text = read(path);
      return text === undefined ? undefined : ts.ScriptSnapshot.fromString(text);
    },
    getCurrentDirectory: () => process.cwd(),
    getCompilationSettings: () => options,
    getDefaultLibFileName: ts.getDefaultLibFilePath,
    fileExists: (path) => read(path) !== undefined,
    readFile: read,
    directoryExists: ts.sys.directoryExists,
    getDirectories: ts.sys.getDirectories,
    readDirectory: ts.sys.readDirectory,
    realpath: (path) => ts.sys.realpath?.(path) ?? path,
  });
  return {
    hovers: positions.map((position) => {
      const { displayParts, documentation } = service.getQuickInfoAtPosition(file, position) ?? {};
      const shown = [displayParts, documentation].map((one) => ts.displayPartsToString(one)).join(" // ");
      return shown.replace(/\s+/g, " ");
    }),
    completions: positions.map((position) =>
      (service.getCompletionsAtPosition(file, position, {})?.entries ?? []).map(({ name }) => name),
    ),
  };
}
