import { type ComponentProps, lazy, Suspense } from "react";
import { Skeleton } from "../ui/parts";
import type Chart from "./Chart";

const Loaded = lazy(() => import("./Chart"));

/** A chart whose drawing library is loaded when the first one is shown. */
export function LazyChart(props: ComponentProps<typeof Chart>) {
  return (
    <Suspense
      fallback={
        <div style={{ height: props.height }} className="p-3">
          <Skeleton className="h-full" />
        </div>
      }
    >
      <Loaded {...props} />
    </Suspense>
  );
}
