import { useSyncExternalStore } from "react";

/** Where one is in the application: a screen, and what of it. `#/objects/BM-SH-0001` */
export function useRoute(): readonly string[] {
  const hash = useSyncExternalStore(
    (onChange) => {
      window.addEventListener("hashchange", onChange);
      return () => window.removeEventListener("hashchange", onChange);
    },
    () => window.location.hash,
  );
  return hash.replace(/^#\/?/, "").split("/").filter(Boolean).map(decodeURIComponent);
}

export function linkTo(...parts: readonly string[]): string {
  return `#/${parts.map(encodeURIComponent).join("/")}`;
}
