import type { ReactNode } from "react";

/** A cell of a row that is told to screen readers as one. `look` is classes. */
export const Cell = ({ look, children }: { look?: string; children?: ReactNode }) => (
  <span role="cell" className={look}>
    {children}
  </span>
);
