import { True } from "../conditions/truth.js";
import type { Screen, ScreenNeed } from "../rules/screens.js";
import type { Reach } from "./reach.js";
import type { Subject } from "./subject.js";

/** The screens that somebody is shown, in declared order, and the one where they land after signing in. */
export interface ShownScreens {
  readonly screens: readonly string[];
  readonly home: string | undefined;
}

export const noScreens: ShownScreens = { screens: [], home: undefined };

/**
 * A screen is shown to whom all that it needs is permitted on some record, where it is for certain people to those alone,
 * and as a part of another where that is shown, too. One lands on the first that is home to a role that one holds, else on
 * the first page.
 */
export function shownScreens(
  screens: ReadonlyMap<string, Screen>,
  subject: Subject,
  reach: (need: ScreenNeed) => Reach,
): ShownScreens {
  const isAmong = (name: string): boolean => {
    if (name === "anyone") return true;
    const met = name === "signed-in" ? subject.signedIn : subject.membership(name);
    return met.kind === "truth" && met.value === True;
  };
  const holdsAny = (names: readonly string[]) => subject.meets && names.some(isAmong);
  const answers = new Map<string, boolean>();
  const isShown = (name: string | undefined): boolean => {
    if (name === undefined) return true;
    const known = answers.get(name);
    const screen = screens.get(name);
    if (known !== undefined || screen === undefined) return known === true;
    // A screen that is a part of itself, at any depth, is none.
    answers.set(name, false);
    const own = (screen.to.length === 0 || holdsAny(screen.to)) && screen.needs.every((need) => reach(need) !== "none");
    const shown = own && isShown(screen.within);
    answers.set(name, shown);
    return shown;
  };
  const shown = [...screens.values()].filter(({ name }) => isShown(name));
  const home = shown.find((screen) => holdsAny(screen.home)) ?? shown.find(({ within }) => within === undefined);
  return { screens: shown.map(({ name }) => name), home: home?.name };
}
