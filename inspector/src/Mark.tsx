import type { Reach } from "portier";
import type { ReactNode } from "react";

/** How much room an action has in a cell, in CSS pixels. */
export const markWidth = 17;

const shapes: Readonly<Record<Reach, ReactNode>> = {
  all: <circle cx="7" cy="7" r="5.5" />,
  some: (
    <>
      <circle className="ring" cx="7" cy="7" r="5" />
      <path d="M7 2a5 5 0 0 0 0 10z" />
    </>
  ),
  own: (
    <>
      <circle className="ring" cx="7" cy="7" r="5" />
      <circle cx="7" cy="7" r="2" />
    </>
  ),
  none: <circle className="absent" cx="7" cy="7" r="1" />,
};

/** On how many records an action may be done: full, half, a ring around a dot for one's own, or next to nothing. */
export function Mark({ reach, title }: { reach: Reach; title?: string | undefined }): ReactNode {
  return (
    <svg className="mark" viewBox="0 0 14 14" aria-hidden="true">
      {title !== undefined && <title>{title}</title>}
      {shapes[reach]}
    </svg>
  );
}
