import { readdirSync } from "node:fs";
import { defineConfig } from "vitepress";

const docs = new URL("../../docs/", import.meta.url);
const warnings = readdirSync(new URL("lint/", docs))
  .filter((name) => name.endsWith(".md") && name !== "README.md")
  .map((name) => ({ text: name.slice(0, -3), link: `/lint/${name.slice(0, -3)}` }));

// The pages are those of docs/, which read as well in a repository; here they get navigation, search, and a dark side.
export default defineConfig({
  title: "Portier",
  description: "Who may view and change which records and fields of an app: rules in the app's data schema.",
  srcDir: "../docs",
  outDir: "dist",
  cacheDir: ".cache",
  cleanUrls: true,
  lastUpdated: false,
  // The examples are folders of the repository.
  ignoreDeadLinks: [/\.\.\/examples\//],
  rewrites: { "lint/README.md": "lint/index.md" },
  markdown: { theme: { light: "github-light-high-contrast", dark: "github-dark-high-contrast" } },
  themeConfig: {
    outline: { level: [2, 3], label: "On this page" },
    search: { provider: "local" },
    nav: [
      { text: "Start", link: "/tutorial" },
      { text: "Try it here", link: "/playground" },
      { text: "I want to ...", link: "/needs" },
      { text: "What rules mean", link: "/model" },
      { text: "Reference", link: "/reference/document" },
    ],
    sidebar: [
      {
        text: "Start",
        items: [
          { text: "The first twenty minutes", link: "/tutorial" },
          { text: "Try it here", link: "/playground" },
          { text: "I want to ...", link: "/needs" },
          { text: "The command in pictures", link: "/tour" },
          { text: "Add rules to an application", link: "/observe" },
          { text: "From a database to a document", link: "/import" },
        ],
      },
      {
        text: "By need",
        items: [
          { text: "Their own records", link: "/guides/own-records" },
          { text: "Hide a column", link: "/guides/hide-a-column" },
          { text: "Share with a group", link: "/guides/share-with-a-group" },
          { text: "Several tenants", link: "/guides/tenants" },
          { text: "Where to enforce what", link: "/where-to-enforce" },
        ],
      },
      {
        text: "Rules",
        items: [
          { text: "What rules mean", link: "/model" },
          { text: "Rules in TypeScript", link: "/typescript" },
          { text: "Grids and ranges", link: "/ranges" },
          { text: "Protected cells", link: "/protections" },
          { text: "Settings per person", link: "/settings" },
          { text: "Screens", link: "/screens" },
          { text: "Words", link: "/glossary" },
        ],
      },
      {
        text: "People and roles",
        items: [{ text: "Assigning roles", link: "/assigning-roles" }],
      },
      {
        text: "Test and look",
        items: [
          { text: "Testing access", link: "/testing-access" },
          { text: "The inspector", link: "/inspector" },
        ],
      },
      {
        text: "Where to ask",
        items: [
          { text: "What a session answers", link: "/session" },
          { text: "Records as drivers give them", link: "/rows" },
          { text: "Filters and masks in SQL", link: "/filters" },
          { text: "Changes in the database", link: "/changes" },
          { text: "Over HTTP", link: "/http" },
          { text: "React", link: "/react" },
          { text: "In a browser", link: "/bundles" },
          { text: "Row security in PostgreSQL", link: "/row-security" },
          { text: "Reading from a standby", link: "/replicas" },
        ],
      },
      {
        text: "Operation",
        items: [
          { text: "Security model", link: "/security" },
          { text: "Limits", link: "/limits" },
          { text: "What it costs", link: "/performance" },
        ],
      },
      {
        text: "Reference",
        items: [
          { text: "Keys of a document", link: "/reference/document" },
          { text: "Commands", link: "/reference/commands" },
          { text: "Warnings", link: "/lint/", collapsed: true, items: warnings },
        ],
      },
    ],
  },
});
