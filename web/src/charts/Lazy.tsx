import { type ComponentProps, useEffect, useState } from "react";
import { Skeleton } from "../ui/parts";
import type Chart from "./Chart";

let ready: typeof Chart | undefined;
// fetched beside the first answers of the server, so that no chart waits for it
const chart = import("./Chart").then((module) => {
  ready = module.default;
  return ready;
});

/**
 * A chart; its drawing library is a file of its own, off the way of everything else. No Suspense:
 * React holds back what replaces a fallback for 300 ms.
 */
export function LazyChart(props: ComponentProps<typeof Chart>) {
  const [Loaded, setLoaded] = useState<typeof Chart | undefined>(() => ready);
  useEffect(() => {
    if (!Loaded) chart.then((component) => setLoaded(() => component));
  }, [Loaded]);
  return Loaded ? (
    <Loaded {...props} />
  ) : (
    <div style={{ height: props.height }} className="p-3">
      <Skeleton className="h-full" />
    </div>
  );
}
