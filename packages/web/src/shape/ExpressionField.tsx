import { lazy, Suspense } from "react";
import type { Props } from "./SqlEditor.tsx";

const SqlEditor = lazy(() => import("./SqlEditor.tsx"));

/** A field for SQL; its editor is fetched when one is opened, as most people only look. */
export function ExpressionField(props: Props) {
  return (
    <Suspense fallback={<div className="expression mono">{props.value}</div>}>
      <SqlEditor {...props} />
    </Suspense>
  );
}
