import { compiledOf } from "../session/compiled.js";
import type { CliCommand } from "./command.js";
import { loadDocument } from "./load.js";

export const compileCommand: CliCommand = {
  usage: "compile <file>",
  summary: "Print the checked rules as JSON, for a program that opens them with portier/compiled",
  hasSession: false,
  declare: () => {},
  run: ([file = ""], _options, io) => {
    const { portier } = loadDocument(file);
    io.out(`${JSON.stringify(compiledOf(portier))}\n`);
    return 0;
  },
};
