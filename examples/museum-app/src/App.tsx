import { Alert, Button, Group, Text } from "@mantine/core";
import { useScreens } from "portier/react";
import { lazy, type ReactNode, Suspense } from "react";
import { post } from "./api.js";
import { RecordCard } from "./RecordCard.js";
import { RecordList } from "./RecordList.js";
import { Roles } from "./Roles.js";
import { linkTo, useRoute } from "./route.js";
import { SignIn } from "./SignIn.js";
import { MuseumProvider, useMuseum } from "./session.js";

/** The grid is fetched by those alone who open the plan. */
const Plan = lazy(async () => ({ default: (await import("./plan/Plan.js")).Plan }));

/** The pages, and the table that each shows. Which of them there are for somebody, the rules say. */
const pages: readonly { readonly screen: string; readonly label: string; readonly table?: string }[] = [
  { screen: "visit", label: "Visit" },
  { screen: "objects", label: "Objects", table: "objects" },
  { screen: "loans", label: "Loans", table: "loans" },
  { screen: "treatments", label: "Treatments", table: "treatments" },
  { screen: "exhibits", label: "Captions", table: "exhibits" },
  { screen: "plan", label: "Plan", table: "plan" },
  { screen: "museum", label: "Museum", table: "staff" },
  { screen: "administration", label: "Roles" },
];

export function App(): ReactNode {
  return (
    <MuseumProvider>
      <Shell />
    </MuseumProvider>
  );
}

function Shell(): ReactNode {
  const { person, name, actedBy, actedByName, refresh } = useMuseum();
  const { screens, home } = useScreens();
  const [asked, ...rest] = useRoute();
  const screen = asked ?? home ?? "sign-in";
  const leave = async () => {
    await post("/sign-out", {});
    window.location.hash = "";
    refresh();
  };
  return (
    <div className="shell">
      <header className="top">
        <strong>Brackwater Museum</strong>
        <nav aria-label="Pages">
          {pages
            .filter((page) => screens.includes(page.screen))
            .map((page) => (
              <a
                key={page.screen}
                href={linkTo(page.screen)}
                aria-current={page.screen === screen ? "page" : undefined}
              >
                {page.label}
              </a>
            ))}
        </nav>
        <Group gap="xs">
          <Text size="sm" data-testid="who">
            {person === null ? "Visitor" : name}
            {actedBy !== null && <b> – {actedByName} acts for them</b>}
          </Text>
          {person === null ? (
            <Button component="a" href={linkTo("sign-in")} size="compact-sm" variant="light">
              Sign in
            </Button>
          ) : (
            <Button size="compact-sm" variant="light" onClick={leave}>
              Sign out
            </Button>
          )}
        </Group>
      </header>
      <main>{screen === "sign-in" ? <SignIn /> : <Page screen={screen} rest={rest} />}</main>
    </div>
  );
}

/** A page that is not among one's screens does not exist, whatever address is typed. */
function Page({ screen, rest }: { screen: string; rest: readonly string[] }): ReactNode {
  const { screens } = useScreens();
  const { shapes } = useMuseum();
  const page = pages.find((one) => one.screen === screen);
  if (page === undefined || !screens.includes(screen)) {
    return (
      <Alert title="Page not found" color="gray">
        Or it does not exist for you. Choose one above, or sign in as somebody else.
      </Alert>
    );
  }
  if (screen === "administration") return <Roles />;
  if (screen === "visit") {
    return (
      <>
        <RecordList key="exhibitions" table="exhibitions" title="Exhibitions" screen={screen} />
        <RecordList key="objects" table="objects" title="On display" screen={screen} filter="status" />
      </>
    );
  }
  if (screen === "plan" && rest.length === 0) {
    return (
      <Suspense fallback={null}>
        <Plan />
      </Suspense>
    );
  }
  const table = page.table ?? screen;
  const shape = shapes[table];
  const [key] = rest;
  if (key === undefined || shape === undefined)
    return <RecordList key={table} table={table} title={page.label} screen={screen} />;
  return <RecordCard key={key} table={table} recordKey={key === "new" ? undefined : key} screen={screen} />;
}
