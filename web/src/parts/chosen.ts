import { useId, useState } from "react";

type State = { list: string; id: string | null; index: number };

/**
 * The chosen row of a list, known by its thing and not by its number: rows that come or go never move it.
 * When the thing has left, nothing is chosen until somebody walks on from where it stood. Another `list`
 * begins at its first row; null stands for rows that still belong to the list before.
 */
export function useChosen<T>(rows: T[], idOf: (row: T) => string | number, list: string | null = "") {
  const prefix = useId();
  const [state, setState] = useState<State>({ list: "", id: null, index: -1 });
  const idAt = (index: number) => String(idOf(rows[index] as T));
  const at = state.id === null ? -1 : rows.findIndex((row) => String(idOf(row)) === state.id);
  if (rows.length > 0 && list !== null && (state.index < 0 || state.list !== list))
    setState({ list, id: idAt(0), index: 0 });
  else if (at >= 0 && at !== state.index) setState({ ...state, index: at });
  const choose = (row: T) => setState({ ...state, id: String(idOf(row)), index: rows.indexOf(row) });
  return {
    current: at < 0 ? undefined : rows[at],
    choose,
    /** The id of the chosen row's element. */
    element: at < 0 ? undefined : prefix + idAt(at),
    /** Goes to a neighbour of the chosen row, and takes the focus there where that is not kept elsewhere. */
    walk: (by: number, focus = true) => {
      if (!rows.length) return;
      const from = at >= 0 ? at : by > 0 ? state.index - 1 : state.index;
      const next = Math.min(Math.max(from + by, 0), rows.length - 1);
      choose(rows[next] as T);
      const element = document.getElementById(prefix + idAt(next));
      if (focus) element?.focus();
      else element?.scrollIntoView({ block: "nearest" });
    },
    /** What the element of a row gets. */
    row: (row: T) => {
      const id = String(idOf(row));
      return {
        id: prefix + id,
        role: "row",
        tabIndex: id === state.id || (at < 0 && row === rows[0]) ? 0 : -1,
        "aria-selected": id === state.id,
        onFocus: () => id !== state.id && choose(row),
        onMouseDown: () => id !== state.id && choose(row),
      };
    },
  };
}
