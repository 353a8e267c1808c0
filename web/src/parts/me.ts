import { createContext, useContext } from "react";
import type { Me } from "../api/client";

const RANK = ["viewer", "operator", "engineer", "admin"];
export const MeContext = createContext<Me | null>(null);

export function useMe(): Me {
  const me = useContext(MeContext);
  if (!me) throw new Error("nobody is signed in");
  return me;
}

/** Whether the person's role reaches `role`. The server decides; this only spares a click. */
export const useMay = (role: string) => RANK.indexOf(useMe().role) >= RANK.indexOf(role);
