import { basename } from "node:path";
import type { Data } from "../document/data.js";
import { makeReport } from "../report/report.js";
import { reportMarkdown } from "../report/report-markdown.js";
import { reportPage } from "../report/report-page.js";
import { personViewers } from "../verify/viewers.js";
import type { CliCommand } from "./command.js";
import { databaseAddresses } from "./database.js";
import type { ExitCode, Io } from "./io.js";
import { loadDocument, type SessionFlags, sessionOptions } from "./load.js";
import { withRecords } from "./records.js";

interface ReportFlags extends SessionFlags {
  readonly data?: string;
  readonly title?: string;
  readonly format: "markdown" | "html";
}

export const reportCommand: CliCommand<ReportFlags> = {
  usage: "report <file>",
  summary: "Write the rules as a report in plain sentences, by role and by table, with pictures and the matrix",
  formats: ["markdown", "html"],
  declare: (command) => {
    command
      .option(
        "--data <folder or database>",
        `records as TABLE.json or TABLE.csv, or ${databaseAddresses}: adds people and counts of records`,
      )
      .option("--title <text>", "the title (default: the name of the file)");
  },
  run: ([file = ""], options, io) => runReport(file, options, io),
};

function runReport(file: string, options: ReportFlags, io: Io): ExitCode | Promise<ExitCode> {
  const { portier } = loadDocument(file);
  const title = options.title ?? basename(file);
  const work = (data: Data | undefined): ExitCode => {
    const { people } = portier.schema;
    const rows = people && data?.tables.get(people.table.name);
    const counted =
      data === undefined || rows === undefined
        ? {}
        : {
            people: personViewers(portier, rows, {
              ...sessionOptions(portier, options, data.source, io),
              source: data.source,
            }),
            records: data.tables,
          };
    const { request } = sessionOptions(portier, options, data?.source, io);
    const report = makeReport(portier, { title, request, ...counted });
    io.out(options.format === "html" ? reportPage(report) : reportMarkdown(report));
    return 0;
  };
  return options.data === undefined ? work(undefined) : withRecords(portier, file, options.data, work);
}
