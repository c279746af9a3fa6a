export { makeReport, type Report, type ReportOptions } from "./report.js";
export { reportMarkdown } from "./report-markdown.js";
export { reportPage } from "./report-page.js";
