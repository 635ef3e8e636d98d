import { useIsFetching } from "@tanstack/react-query";
import { Command, useCommandState } from "cmdk";
import { Dialog } from "radix-ui";
import { useDeferredValue, useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { useFoundContracts, useFoundReplays, useFoundTrades } from "../api/find";
import { useStrategies, useUnderlyings } from "../api/queries";
import { useLatestRuns } from "../api/runs";
import { write } from "../pages/market/basket";
import { ago, date, number, signed } from "../ui/format";
import { theme, wear } from "./theme";

interface Props {
  open: boolean;
  onOpenChange: (open: boolean) => void;
  onKeys: () => void;
  onHalt: () => void;
}

/** The line chosen once there is one: Enter pressed before the answers came is not lost. */
function ChosenWhenFound({ choose }: { choose: (line: HTMLElement) => void }) {
  const found = useCommandState((state) => state.value);
  const here = useRef<HTMLSpanElement>(null);
  useEffect(() => {
    const line = here.current?.closest("[cmdk-root]")?.querySelector<HTMLElement>(CHOSEN);
    if (found && line) choose(line);
  });
  return <span ref={here} hidden />;
}

const CHOSEN = "[cmdk-item][data-selected=true]";

/** Ctrl K: any page, strategy or command by a few letters. */
export function Palette({ open, onOpenChange, onKeys, onHalt }: Props) {
  const go = useNavigate();
  const strategies = useStrategies(open);
  const runs = useLatestRuns(open).data ?? [];
  const underlyings = useUnderlyings().data ?? [];
  const replays = useFoundReplays(open).data ?? [];
  const [typed, setTyped] = useState("");
  const sought = useDeferredValue(typed);
  const trades = useFoundTrades(sought);
  const contracts = useFoundContracts(sought);
  const [waiting, setWaiting] = useState(false);
  const looking = useIsFetching() > 0;
  const type = (text: string) => {
    setTyped(text);
    setWaiting(false);
  };
  const show = (to: boolean) => {
    type("");
    onOpenChange(to);
  };
  const run = (what: () => void) => () => {
    show(false);
    what();
  };
  const item = "flex cursor-pointer justify-between gap-4 px-3 py-1.5 data-[selected=true]:bg-seawash";
  return (
    <Dialog.Root open={open} onOpenChange={show}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/20" />
        <Dialog.Content
          aria-describedby={undefined}
          className="popover fixed top-[14vh] left-1/2 z-50 w-130 max-w-[92vw] -translate-x-1/2 overflow-hidden"
        >
          <Dialog.Title className="sr-only">Find</Dialog.Title>
          <Command
            label="Find"
            onKeyDown={(event) => {
              if (event.key === "Enter" && !event.currentTarget.querySelector(CHOSEN)) setWaiting(true);
            }}
          >
            {waiting && <ChosenWhenFound choose={(line) => line.click()} />}
            <Command.Input
              autoFocus
              placeholder="Strategy, run, trade 57, 18 Mar 2026, 3150 call Dec…"
              value={typed}
              onValueChange={type}
              className="w-full border-b bg-surface px-3 py-2.5 text-head outline-none"
            />
            <Command.List className="max-h-[50vh] overflow-auto py-1">
              <Command.Empty className="px-3 py-4 text-soft">
                {looking ? "Looking…" : "Nothing is called that."}
              </Command.Empty>
              <Command.Group heading={<span className="px-3 text-xs text-soft">Strategies</span>}>
                {strategies.data?.flatMap((strategy) =>
                  (["rules", "backtest", "replay", "paper"] as const).map((stage) => (
                    <Command.Item
                      key={`${strategy.id}${stage}`}
                      value={`${strategy.name} ${stage} ${strategy.id}`}
                      className={item}
                      onSelect={run(() => go(`/strategies/${strategy.id}/${stage}`))}
                    >
                      <span>{strategy.name}</span> <span className="text-soft">{stage}</span>
                    </Command.Item>
                  )),
                )}
              </Command.Group>
              <Command.Group heading={<span className="px-3 text-xs text-soft">Runs</span>}>
                {runs.map((found) => (
                  <Command.Item
                    key={found.id}
                    value={`${found.name} run ${found.number} ${found.called} ${found.variant} #${found.id}`}
                    className={item}
                    onSelect={run(() => go(`/strategies/${found.strategy}/backtest?run=${found.number}`))}
                  >
                    <span className="truncate">
                      {found.name}, run {found.number}
                      {found.called ? ` “${found.called}”` : ""}
                    </span>
                    <span className="truncate text-soft">{found.variant || date(found.end)}</span>
                  </Command.Item>
                ))}
              </Command.Group>
              {trades.length > 0 && (
                <Command.Group heading={<span className="px-3 text-xs text-soft">Trades</span>}>
                  {trades.map((found) => (
                    <Command.Item
                      key={`${found.strategy} ${found.run} ${found.trade}`}
                      value={`${typed} trade ${found.trade} ${found.name} run ${found.run} #${found.strategy}`}
                      className={item}
                      onSelect={run(() =>
                        go(`/strategies/${found.strategy}/backtest?run=${found.run}&trade=${found.trade}`),
                      )}
                    >
                      <span className="truncate">
                        Trade {found.trade} of {found.name}, run {found.run}
                      </span>
                      <span className="whitespace-nowrap text-soft">
                        {found.opened_shown} {signed(found.pnl)}
                      </span>
                    </Command.Item>
                  ))}
                </Command.Group>
              )}
              {contracts.length > 0 && (
                <Command.Group heading={<span className="px-3 text-xs text-soft">Contracts</span>}>
                  {contracts.map((found) => (
                    <Command.Item
                      key={found.contract}
                      value={`${typed} ${found.contract}`}
                      className={item}
                      onSelect={run(() =>
                        go(
                          `/market/${found.symbol}?expiration=${found.expiration}&legs=${encodeURIComponent(write([{ contract: found.contract, contracts: 1, opened: null }]))}`,
                        ),
                      )}
                    >
                      <span className="truncate">
                        {found.symbol} {found.label}
                      </span>
                      <span className="whitespace-nowrap text-soft">
                        {found.bid === null
                          ? "no quote"
                          : `${number(found.bid, 2)} / ${number(found.ask, 2)}`}
                      </span>
                    </Command.Item>
                  ))}
                </Command.Group>
              )}
              <Command.Group heading={<span className="px-3 text-xs text-soft">Replays</span>}>
                {replays.map((found) => (
                  <Command.Item
                    key={found.id}
                    value={`replay ${found.name} ${found.strategy} ${found.underlying} #${found.id}`}
                    className={item}
                    onSelect={run(() => go(`/replays/${found.id}`))}
                  >
                    <span className="truncate">
                      Replay {found.name || found.strategy || found.underlying}
                    </span>
                    <span className="whitespace-nowrap text-soft">{ago(found.updated_at)}</span>
                  </Command.Item>
                ))}
              </Command.Group>
              <Command.Group heading={<span className="px-3 text-xs text-soft">Underlyings</span>}>
                {underlyings.map((row) => (
                  <Command.Item
                    key={row.symbol}
                    value={`${row.symbol} ${row.name} market`}
                    className={item}
                    onSelect={run(() => go(`/market/${row.symbol}`))}
                  >
                    <span>{row.symbol}</span> <span className="text-soft">{row.name}</span>
                  </Command.Item>
                ))}
              </Command.Group>
              <Command.Group heading={<span className="px-3 text-xs text-soft">Commands</span>}>
                <Command.Item className={item} onSelect={run(() => go("/compare"))}>
                  Compare runs
                </Command.Item>
                <Command.Item className={item} onSelect={run(() => go("/"))}>
                  Go to the shelf
                </Command.Item>
                <Command.Item className={item} onSelect={run(() => go("/market"))}>
                  Look at a market
                </Command.Item>
                <Command.Item className={item} onSelect={run(() => go("/data"))}>
                  Go to the data
                </Command.Item>
                <Command.Item className={item} onSelect={run(() => go("/desk"))}>
                  Go to the desk
                </Command.Item>
                <Command.Item className={item} onSelect={run(() => go("/journal"))}>
                  Read the journal
                </Command.Item>
                <Command.Item className={item} onSelect={run(() => go("/access"))}>
                  Access for scripts
                </Command.Item>
                <Command.Item className={item} onSelect={run(onHalt)}>
                  Halt all accounts
                </Command.Item>
                <Command.Item className={item} onSelect={run(() => go("/?new"))}>
                  Write a new strategy
                </Command.Item>
                <Command.Item
                  className={item}
                  onSelect={run(() => wear(theme() === "dark" ? "light" : "dark"))}
                >
                  Change between light and dark paper
                </Command.Item>
                <Command.Item className={item} onSelect={run(onKeys)}>
                  Show the keys
                </Command.Item>
              </Command.Group>
            </Command.List>
          </Command>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
