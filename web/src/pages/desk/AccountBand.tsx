import { createPortal } from "react-dom";
import type { Desk } from "../../api/desk";
import { day, number } from "../../ui/format";

export const KIND_WORD: Record<string, string> = { paper: "PAPER", practice: "PRACTICE BROKER" };

/** Which account this is, across the top of the window. */
export function AccountBand({ desk }: { desk: Desk }) {
  const place = document.getElementById("account-band");
  if (!place) return null;
  const { account, clock } = desk;
  const state = clock.sealed ? "session over" : clock.running ? `${clock.rate}×` : "clock stands";
  return createPortal(
    <div
      className={`${account.kind}-band flex h-5.5 items-center gap-4 px-4.5 text-xs`}
      role="status"
      aria-label="Account"
    >
      <b className="font-semibold tracking-widest">{KIND_WORD[account.kind]}</b>
      <span className="truncate">
        account “{account.name}”
        {account.equity !== null && ` · ${number(account.equity)} ${account.currency} equity`}
        {account.free !== null && ` · ${number(account.free)} free`} · practice exchange, {day(clock.session)}{" "}
        <span data-clock>{clock.local.slice(11)}</span>, {state}
      </span>
      <span className="ml-auto whitespace-nowrap">not real money</span>
    </div>,
    place,
  );
}
