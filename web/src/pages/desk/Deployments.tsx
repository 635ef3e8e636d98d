import { useState } from "react";
import { Link } from "react-router";
import { type Deployment, useOutlook } from "../../api/desk";
import { Outlook } from "../../ui/Outlook";
import { ErrorNote, Skeleton } from "../../ui/parts";
import { useArming } from "./useArming";

/** Strategies switched on in this account. */
export function Deployments({ deployments }: { deployments: Deployment[] }) {
  const arming = useArming();
  const [open, setOpen] = useState<number | null>(null);
  return (
    <section className="card px-3 py-2" aria-label="Deployments">
      {deployments.length === 0 ? (
        <p className="text-soft">
          <b className="font-semibold text-ink">Deployments</b> · none here. Promote a strategy on its page,
          under Paper.
        </p>
      ) : (
        <ul className="flex flex-col gap-1">
          {deployments.map((row) => (
            <li key={row.id} className="flex flex-wrap items-center gap-x-3">
              <Link className="link" to={`/strategies/${row.strategy}/paper`}>
                {row.name}
              </Link>
              <b className={`font-semibold ${row.armed ? "text-gain" : "text-soft"}`}>
                {row.armed ? "armed" : "disarmed"}
              </b>
              {row.open_trades ? (
                <button
                  type="button"
                  className="link"
                  aria-expanded={open === row.id}
                  onClick={() => setOpen(open === row.id ? null : row.id)}
                >
                  in position: what its rules say
                </button>
              ) : (
                <span className="text-soft">{row.next ? `next ${row.next}` : ""}</span>
              )}
              <span className="min-w-0 flex-1 truncate text-soft" title={row.says}>
                {row.says}
              </span>
              <button
                type="button"
                className="link"
                onClick={() => (row.armed ? arming.disarm(row) : arming.arm(row))}
              >
                {row.armed ? "Disarm" : "Arm"}
              </button>
              {open === row.id && row.open_trades > 0 && <RulesOfOpen deployment={row.id} />}
            </li>
          ))}
        </ul>
      )}
      {arming.window}
    </section>
  );
}

/** What a deployment's exits and adjustments say of its open trades on the last recorded snapshot. */
export function RulesOfOpen({ deployment }: { deployment: number }) {
  const outlook = useOutlook(deployment);
  return (
    <div className="w-full">
      <ErrorNote error={outlook.error} onRetry={() => outlook.refetch()} />
      {outlook.isPending && <Skeleton className="h-16" />}
      {outlook.data?.trades.map((trade) => (
        <div key={trade.number} className="px-3 pt-1">
          <h3 className="text-soft">
            Trade {trade.number}: {trade.legs}, as recorded {outlook.data.at}
          </h3>
          <Outlook trade={trade} />
        </div>
      ))}
    </div>
  );
}
