import type { Me, User } from "@undercoat/core/api/api";
import { createContext, useContext } from "react";

const context = createContext<(Me & { user: User }) | null>(null);
export const SignedIn = context.Provider;

/** Who is signed in. */
export function useMe(): Me & { user: User } {
  const me = useContext(context);
  if (!me) throw new Error("Nobody is signed in here");
  return me;
}

/** True where the signed-in user may change things. */
export const useCanEdit = () => useMe().user.role !== "viewer";
