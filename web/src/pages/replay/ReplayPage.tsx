import { useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { Refusal } from "../../api/client";
import { useTerms } from "../../api/queries";
import { type Action, type Scene, useReplayAction, useScene } from "../../api/replay";
import { PayoffChart } from "../../charts/PayoffChart";
import { ChainTable } from "../../ui/ChainTable";
import { DateSlide } from "../../ui/DateSlide";
import { level } from "../../ui/format";
import { useKeys } from "../../ui/keyboard";
import { LegGlyph } from "../../ui/LegGlyph";
import { Empty, ErrorNote, Skeleton } from "../../ui/parts";
import { tell, tellError } from "../../ui/toast";
import { AccountFigures } from "./AccountFigures";
import { Band } from "./Band";
import { Controls } from "./Controls";
import { Legs } from "./Legs";
import { Note } from "./Note";
import { RulesNow } from "./RulesNow";
import { TimeBar } from "./TimeBar";
import { usePlay } from "./usePlay";

export function ReplayPage() {
  const id = Number(useParams().id);
  return <Session key={id} id={id} />;
}

function Session({ id }: { id: number }) {
  const [expiration, setExpiration] = useState<string | null>(null);
  const [payoffAt, setPayoffAt] = useState<number | null>(null);
  const [symbol, setSymbol] = useState<string | null>(null);
  const look = { expiration, payoffAt, symbol };
  const scene = useScene(id, look);
  const action = useReplayAction(id, look);
  const now = scene.data;

  const act = (what: Action, said?: string) =>
    action.mutateAsync(what).then(
      (next) => {
        if (what.kind === "move" && payoffAt !== null && next.at >= payoffAt) setPayoffAt(null);
        if (said) tell(said, { label: "Undo", run: () => act({ kind: "undo" }) });
        return next;
      },
      (error: unknown) => {
        tellError(error);
        return null;
      },
    );
  const move = (to: string) => act({ kind: "move", to });
  const play = usePlay(move);
  const stop = play.stop;
  useEffect(() => {
    if (now?.is_last) stop();
  }, [now?.is_last, stop]);

  const halted = (to: string) => () => {
    play.stop();
    move(to);
  };
  useKeys({
    ",": halted("step-back"),
    ".": halted("step"),
    "shift+,": halted("session-back"),
    "shift+.": halted("session"),
    n: halted("next-mark"),
    p: halted("previous-mark"),
    space: play.toggle,
    "ctrl+z": () => now?.undoes && act({ kind: "undo" }),
  });

  if (scene.error && !now)
    return scene.error instanceof Refusal && scene.error.status === 404 ? (
      <Empty title="There is no such replay session.">
        <Link className="link" to="/">
          To the shelf
        </Link>
      </Empty>
    ) : (
      <div className="m-6">
        <ErrorNote error={scene.error} onRetry={() => scene.refetch()} />
      </div>
    );
  if (!now) return <Skeleton className="m-6 h-[70vh]" />;
  return (
    <>
      <Band scene={now} />
      <div className="flex h-[calc(100vh_-_--spacing(15.5))] min-h-160 flex-col">
        <Head
          scene={now}
          lookAt={(other) => {
            setSymbol(other);
            setExpiration(null);
            setPayoffAt(null);
          }}
        />
        <div className="grid min-h-0 flex-1 grid-cols-[--spacing(72.5)_minmax(--spacing(95),1fr)_--spacing(75)] gap-3 px-4.5 pt-3">
          <ChainTable
            chain={now.chain}
            spot={now.spot}
            busy={action.isPending}
            hint="Click a bid to sell one, an ask to buy one, at this instant. A marked strike is held."
            onExpiration={setExpiration}
            onPick={(contract, contracts, label) =>
              act(
                { kind: "trade", orders: [{ contract, contracts }] },
                `${contracts > 0 ? "Bought" : "Sold"} ${Math.abs(contracts)} ${label}.`,
              )
            }
          />
          <Middle scene={now} payoffAt={payoffAt} setPayoffAt={setPayoffAt} act={act} />
          <div className="flex min-h-0 flex-col gap-3 overflow-y-auto pb-2">
            <RulesNow scene={now} act={act} />
            <Note key={now.id} scene={now} />
          </div>
        </div>
        <TimeBar scene={now} onSeek={(at) => move(String(at))} />
        <Controls
          scene={now}
          play={play}
          move={halted}
          jump={(to) => {
            play.stop();
            move(to);
          }}
        />
      </div>
    </>
  );
}

function Head({ scene, lookAt }: { scene: Scene; lookAt: (symbol: string) => void }) {
  return (
    <header className="flex items-center gap-5 border-b px-4.5 py-2">
      <h1 className="truncate text-title font-semibold">{scene.name}</h1>
      {scene.legs.some((leg) => leg.contracts !== 0) && <LegGlyph glyph={scene.glyph} width={88} />}
      <b className="text-head font-semibold whitespace-nowrap" data-clock>
        {scene.shown}
      </b>
      <span className="whitespace-nowrap text-soft">
        {scene.symbols.length > 1 ? (
          <select
            className="field mr-1 h-7"
            aria-label="Underlying that is shown"
            value={scene.symbol}
            onChange={(event) => lookAt(event.target.value)}
          >
            {scene.symbols.map((one) => (
              <option key={one} value={one}>
                {one}
              </option>
            ))}
          </select>
        ) : (
          `${scene.symbol} `
        )}
        {level(scene.spot)}
        {scene.single && " · a session with a single snapshot"}
      </span>
      <span className="ml-auto flex gap-3 whitespace-nowrap">
        {scene.run && (
          <Link
            className="link"
            to={`/strategies/${scene.strategy}/backtest?run=${scene.run_number}&trade=${scene.run_trade}`}
          >
            trade {scene.run_trade} in its run
          </Link>
        )}
        {scene.strategy && (
          <Link className="link" to={`/strategies/${scene.strategy}/replay`}>
            all sessions
          </Link>
        )}
      </span>
    </header>
  );
}

interface MiddleProps {
  scene: Scene;
  payoffAt: number | null;
  setPayoffAt: (at: number | null) => void;
  act: (action: Action, said?: string) => Promise<Scene | null>;
}

function Middle({ scene, payoffAt, setPayoffAt, act }: MiddleProps) {
  const terms = useTerms(scene.symbol);
  return (
    <div className="flex min-h-0 flex-col gap-3 overflow-y-auto pb-2">
      <section className="card px-3 pt-2.5 pb-1" aria-label="Position">
        <AccountFigures scene={scene} />
        {scene.payoff ? (
          <>
            <PayoffChart
              payoff={scene.payoff}
              currency={scene.currency}
              height={186}
              when={payoffAt === null ? "now" : "on the date below"}
            />
            <DateSlide
              zone={terms.zone}
              from={scene.at}
              to={scene.payoff.nearest}
              value={payoffAt}
              onChange={setPayoffAt}
            />
          </>
        ) : (
          <Empty title="No position.">
            Click a bid to sell, an ask to buy. Prices are those of {scene.shown}.
          </Empty>
        )}
      </section>
      <Legs scene={scene} act={act} />
    </div>
  );
}
