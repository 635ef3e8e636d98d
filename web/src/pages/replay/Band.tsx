import { createPortal } from "react-dom";
import type { Scene } from "../../api/replay";
import { number } from "../../ui/format";

/** The account's band across the top of the window: this is a replay, nothing here reaches a market. */
export function Band({ scene }: { scene: Scene }) {
  const place = document.getElementById("account-band");
  if (!place) return null;
  return createPortal(
    <div className="replay-band flex h-5.5 items-center gap-4 px-4.5 text-xs" role="status">
      <b className="font-semibold tracking-widest">REPLAY</b>
      <span className="truncate">
        account {number(scene.cash)} {scene.currency}
        {scene.account.equity !== null && `, now ${number(scene.account.equity)}`} · nothing here reaches a
        market
      </span>
      <span className="ml-auto">saved</span>
    </div>,
    place,
  );
}
