import type { ComponentProps } from "react";

/** Head of a column, said as such to a screen reader. */
export function Th(props: ComponentProps<"th">) {
  return <th scope="col" {...props} />;
}
