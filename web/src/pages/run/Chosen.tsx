import type { Schemas } from "../../api/client";
import type { Document } from "../../api/queries";
import { number, percent, plural, signed, tone } from "../../ui/format";
import { tellError } from "../../ui/toast";
import { asRules, sliced } from "./slicing";
import type { Choices } from "./useChoices";

interface Props {
  found: Schemas["SlicesOut"];
  choices: Choices;
  currency: string;
  document: Document;
  save: (document: Document) => Promise<unknown>;
}

/** The slices that were chosen, what their trades made, and the way to make rules of them. */
export function Chosen({ found, choices, currency, document, save }: Props) {
  const columns = found.columns.filter((column) => column.cells.some((cell) => cell.chosen));
  const { chosen } = found;
  const rules = asRules(columns);
  return (
    <section
      className="card flex flex-wrap items-center gap-x-3 gap-y-1.5 px-3 py-2"
      aria-label="Chosen trades"
    >
      {columns.map((column) =>
        column.cells
          .filter((cell) => cell.chosen)
          .map((cell) => (
            <button
              key={`${column.id}:${cell.key}`}
              type="button"
              className="pill max-w-70 truncate"
              aria-pressed="true"
              title={`${column.title}: ${cell.title}. Click to leave it out.`}
              onClick={() => choices.toggle(`${column.id}:${cell.key}`)}
            >
              {cell.title} ×
            </button>
          )),
      )}
      <span>
        <b className="font-semibold">{plural(chosen.count, "trade")}</b>
        {chosen.count > 0 && (
          <>
            , {percent(chosen.win_rate, 0)} won, <b className={tone(chosen.mean)}>{signed(chosen.mean)}</b> a
            trade
            {chosen.likely && (
              <span className="text-soft">
                {" "}
                ({signed(chosen.likely[0])} to {signed(chosen.likely[1])} likely)
              </span>
            )}
            , in all <b className={tone(chosen.total)}>{signed(chosen.total)}</b> {currency}, worst{" "}
            {signed(chosen.worst)}, profit factor {number(chosen.profit_factor, 2)}
          </>
        )}
      </span>
      <span className="ml-auto flex gap-3">
        {rules.length > 0 && (
          <button
            type="button"
            className="link"
            title={`A new revision that enters only where ${rules.map((column) => column.title).join(" and ")} is as chosen. What chance made good will not stay good: run it on other years.`}
            onClick={() => save(sliced(document, columns)).then(choices.clear, tellError)}
          >
            Make it a rule
          </button>
        )}
        <button type="button" className="link" onClick={choices.clear}>
          All trades
        </button>
      </span>
    </section>
  );
}
