import { type FormEvent, useState } from "react";
import { Refusal, type Schemas } from "../../api/client";
import { type Calendar, useCalendars, useForgetCalendar, useKeepCalendar } from "../../api/data";
import { Window } from "../../ui/Dialog";
import { plural } from "../../ui/format";
import { ErrorNote } from "../../ui/parts";
import { tell, tellError } from "../../ui/toast";

const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const PLACES = ["name", "zone", "close", "weekdays", "closed", "short"];
const EMPTY = { name: "", zone: "Europe/Lisbon", open: "09:00", close: "17:30", weekdays: [0, 1, 2, 3, 4] };

/** Trading calendars that people wrote down, for exchanges that are not among the known ones. */
export function Calendars() {
  const calendars = useCalendars();
  const [edited, setEdited] = useState<Calendar | "new" | null>(null);
  return (
    <section className="card shrink-0" aria-label="Calendars of your own">
      <p className="flex border-b px-3 py-1.5 text-xs text-soft last:border-b-0">
        Calendars of your own
        <button type="button" className="link ml-auto" onClick={() => setEdited("new")}>
          Write one
        </button>
      </p>
      <ErrorNote error={calendars.error} onRetry={() => calendars.refetch()} />
      {calendars.data?.map((row) => (
        <div key={row.name} className="border-b px-3 py-1.5 last:border-b-0">
          <span className="flex items-baseline gap-2">
            <b className="truncate font-semibold">{row.name}</b>
            {row.mine && (
              <button type="button" className="link ml-auto" onClick={() => setEdited(row)}>
                Change
              </button>
            )}
          </span>
          <span className="block text-xs text-soft">
            {row.open.slice(0, 5)}–{row.close.slice(0, 5)} {row.zone},{" "}
            {plural((row.closed ?? []).length, "holiday")}
            {row.used_by.length > 0 && `; followed by ${row.used_by.join(", ")}`}
          </span>
        </div>
      ))}
      {edited && (
        <Editor key={edited === "new" ? "new" : edited.name} given={edited} onDone={() => setEdited(null)} />
      )}
    </section>
  );
}

const lines = (text: string) =>
  text
    .split(/[\n,;]+/)
    .map((line) => line.trim())
    .filter(Boolean);

function Editor({ given, onDone }: { given: Calendar | "new"; onDone: () => void }) {
  const keep = useKeepCalendar();
  const forget = useForgetCalendar();
  const old = given === "new" ? null : given;
  const [facts, setFacts] = useState(old ?? EMPTY);
  const [closed, setClosed] = useState((old?.closed ?? []).join("\n"));
  const [short, setShort] = useState(
    (old?.short ?? []).map((day) => `${day.date} ${day.close.slice(0, 5)}`).join("\n"),
  );
  const put = (changes: Partial<typeof facts>) => setFacts({ ...facts, ...changes });
  const refused = keep.error instanceof Refusal ? keep.error : null;
  const wrong = (place: string) =>
    refused?.problems.find((problem) => problem.path?.endsWith(place))?.message;

  function submit(event: FormEvent) {
    event.preventDefault();
    const body: Schemas["CalendarChange"] = {
      based_on: old?.version ?? null,
      zone: facts.zone,
      open: facts.open,
      close: facts.close,
      weekdays: facts.weekdays ?? [],
      closed: lines(closed),
      short: lines(short).map((line) => {
        const [date = "", close = ""] = line.split(/\s+/);
        return { date, close };
      }),
    };
    keep.mutate(
      { name: facts.name, body },
      {
        onSuccess: () => {
          tell(`${facts.name} can be chosen as the calendar of an underlying.`);
          onDone();
        },
      },
    );
  }
  function drop() {
    if (!old) return;
    const { zone, open, close, weekdays, closed: days, short: shorter } = old;
    forget.mutate(old.name, {
      onSuccess: () => {
        tell(`${old.name} is gone.`, {
          label: "Undo",
          run: () =>
            keep.mutate(
              { name: old.name, body: { zone, open, close, weekdays, closed: days, short: shorter } },
              { onError: tellError },
            ),
        });
        onDone();
      },
      onError: tellError,
    });
  }

  return (
    <Window
      open
      onOpenChange={(open) => !open && onDone()}
      title={old ? `Calendar ${old.name}` : "A calendar of your own"}
      about="For exchanges that are not in the list. Times are those of the zone; daylight saving is taken care of."
      width="max-w-lg"
    >
      <form onSubmit={submit} className="flex flex-col gap-3">
        <div className="grid grid-cols-2 gap-3">
          <Field label="Name, capitals" bad={wrong("name")}>
            <input
              className="field block w-full"
              required
              maxLength={20}
              disabled={old !== null}
              value={facts.name}
              onChange={(event) => put({ name: event.target.value.toUpperCase() })}
            />
          </Field>
          <Field label="Time zone" bad={wrong("zone")}>
            <input
              className="field block w-full"
              required
              value={facts.zone}
              onChange={(event) => put({ zone: event.target.value })}
            />
          </Field>
          <Field label="Opens">
            <input
              type="time"
              className="field block w-full"
              required
              value={facts.open.slice(0, 5)}
              onChange={(event) => put({ open: event.target.value })}
            />
          </Field>
          <Field label="Closes" bad={wrong("close")}>
            <input
              type="time"
              className="field block w-full"
              required
              value={facts.close.slice(0, 5)}
              onChange={(event) => put({ close: event.target.value })}
            />
          </Field>
        </div>
        <fieldset>
          <legend className="text-xs text-soft">Days of the week with a session</legend>
          <div className="mt-1 flex gap-3">
            {DAYS.map((name, day) => (
              <label key={name} className="flex items-center gap-1">
                <input
                  type="checkbox"
                  checked={(facts.weekdays ?? []).includes(day)}
                  onChange={(event) =>
                    put({
                      weekdays: event.target.checked
                        ? [...(facts.weekdays ?? []), day]
                        : (facts.weekdays ?? []).filter((one) => one !== day),
                    })
                  }
                />
                {name}
              </label>
            ))}
          </div>
          {wrong("weekdays") && <p className="text-xs text-loss">{wrong("weekdays")}</p>}
        </fieldset>
        <div className="grid grid-cols-2 gap-3">
          <Field label="Closed on, a date a line like 2026-12-25" bad={wrong("closed")}>
            <textarea
              className="field block h-28 w-full"
              value={closed}
              onChange={(event) => setClosed(event.target.value)}
            />
          </Field>
          <Field label="Closes early on, like 2026-12-24 13:00" bad={wrong("short")}>
            <textarea
              className="field block h-28 w-full"
              value={short}
              onChange={(event) => setShort(event.target.value)}
            />
          </Field>
        </div>
        {!PLACES.some(wrong) && <ErrorNote error={keep.error} />}
        <div className="flex items-center">
          {old && (
            <button type="button" className="link" disabled={forget.isPending} onClick={drop}>
              Take out
            </button>
          )}
          <button type="submit" className="button primary ml-auto" disabled={keep.isPending}>
            {old ? "Change it" : "Write it down"}
          </button>
        </div>
      </form>
    </Window>
  );
}

function Field(props: { label: string; bad?: string | undefined; children: React.ReactNode }) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is the child
    <label className="text-xs text-soft">
      {props.label}
      <span className="mt-0.5 block text-ink">{props.children}</span>
      {props.bad && <span className="block text-loss">{props.bad}</span>}
    </label>
  );
}
