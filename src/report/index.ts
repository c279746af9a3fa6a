export {
  type FieldReport,
  type GroupReport,
  makeReport,
  type Report,
  type ReportOptions,
  type RoleReport,
  type ScreenReport,
  type Sentence,
  type TableReport,
  type TableSentences,
} from "./report.js";
export { reportMarkdown } from "./report-markdown.js";
export { reportPage } from "./report-page.js";
