import { Alert, Button, Select } from "@mantine/core";
import { lazy, type ReactNode, Suspense } from "react";
import { printAddress, useAddress, type View, views } from "./address.js";
import { Expectations } from "./Expectations.js";
import { Matrix } from "./Matrix.js";
import { ProjectProvider, useProject } from "./project.js";
import { Roles } from "./Roles.js";
import { ViewAs } from "./view-as/ViewAs.js";

/** The editor is fetched by those alone who open the rules. */
const Rules = lazy(async () => ({ default: (await import("./rules/Rules.js")).Rules }));

const labels: Readonly<Record<View, string>> = {
  "view-as": "View as",
  matrix: "Matrix",
  rules: "Rules",
  roles: "Roles",
  expectations: "Expectations",
};

export function App(): ReactNode {
  return (
    <ProjectProvider>
      <Shell />
    </ProjectProvider>
  );
}

function Shell(): ReactNode {
  const [address, go] = useAddress();
  const { document, text, overview, compiles, changedOutside, reload } = useProject();
  const eyes = overview.eyes.map(({ id, name }) => ({ value: id, label: id === "visitor" ? name : `${name}, ${id}` }));
  const isUnsaved = text !== document.text;
  return (
    <div className="shell">
      <header className="top">
        <strong className="file">
          {document.name}
          {isUnsaved && <span className="unsaved"> not saved</span>}
        </strong>
        <nav aria-label="Views">
          {views.map((view) => (
            <a
              key={view}
              href={printAddress({ ...address, view, line: undefined })}
              aria-current={view === address.view ? "page" : undefined}
            >
              {labels[view]}
            </a>
          ))}
        </nav>
        <div className="eyes">
          <Select
            aria-label="View as"
            size="xs"
            searchable
            limit={100}
            data={eyes}
            value={address.as ?? "visitor"}
            allowDeselect={false}
            leftSection="as"
            leftSectionWidth={32}
            onChange={(as) => as !== null && go({ as })}
          />
          <Select
            aria-label="Compare with"
            size="xs"
            searchable
            clearable
            limit={100}
            placeholder="nobody"
            data={eyes.filter(({ value }) => value !== (address.as ?? "visitor"))}
            value={address.compare ?? null}
            leftSection="and"
            leftSectionWidth={40}
            onChange={(compare) => go({ compare: compare ?? undefined })}
          />
        </div>
      </header>
      {changedOutside !== undefined && (
        <Alert color="orange" className="banner" title={`${changedOutside} was changed by somebody else`}>
          <Button size="compact-sm" onClick={() => reload()}>
            Reload{isUnsaved && ", and discard your changes"}
          </Button>
        </Alert>
      )}
      {!compiles && address.view !== "rules" && (
        <Alert color="orange" className="banner" title="The rules have errors">
          These answers come from the last version without errors.{" "}
          <a href={printAddress({ ...address, view: "rules" })}>Go to the rules</a>
        </Alert>
      )}
      {overview.trouble !== undefined && address.view !== "rules" && (
        <Alert color="orange" className="banner">
          {overview.trouble}
        </Alert>
      )}
      <main>
        {address.view === "view-as" && <ViewAs />}
        {address.view === "matrix" && <Matrix />}
        {address.view === "rules" && (
          <Suspense fallback={null}>
            <Rules />
          </Suspense>
        )}
        {address.view === "roles" && <Roles />}
        {address.view === "expectations" && <Expectations />}
      </main>
    </div>
  );
}
