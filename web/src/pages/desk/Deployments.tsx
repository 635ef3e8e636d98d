import { Link } from "react-router";
import type { Deployment } from "../../api/desk";
import { useArming } from "./useArming";

/** Strategies switched on in this account. */
export function Deployments({ deployments }: { deployments: Deployment[] }) {
  const arming = useArming();
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
              <span className="text-soft">
                {row.open_trades ? "in position" : row.next ? `next ${row.next}` : ""}
              </span>
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
            </li>
          ))}
        </ul>
      )}
      {arming.window}
    </section>
  );
}
