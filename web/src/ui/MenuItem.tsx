import { DropdownMenu } from "radix-ui";
import type { ReactNode } from "react";

export function MenuItem({ children, onSelect }: { children: ReactNode; onSelect: () => void }) {
  return (
    <DropdownMenu.Item
      onSelect={onSelect}
      className="cursor-pointer px-3 py-1 outline-none data-[highlighted]:bg-seawash"
    >
      {children}
    </DropdownMenu.Item>
  );
}
