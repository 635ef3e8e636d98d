/** What people type, read in one way only: dates with the name of their month, numbers whose separators are told apart. */

const MONTHS = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
export const DATE_HINT = "Write it like 18 Nov 2026.";
export const INSTANT_HINT = "Write it like 18 Nov 2026 15:45.";

const two = (value: number | string) => String(value).padStart(2, "0");

function onCalendar(year: number, month: number, day: number): string | null {
  const made = new Date(Date.UTC(year, month - 1, day));
  const there =
    made.getUTCFullYear() === year && made.getUTCMonth() === month - 1 && made.getUTCDate() === day;
  return there && year >= 1900 && year < 2200 ? `${year}-${two(month)}-${two(day)}` : null;
}

/** "18 Nov 2026", "Nov 18, 2026" or "2026-11-18" as "2026-11-18"; `null` for anything else: 3/4/2026 is two days. */
export function readDate(text: string): string | null {
  const plain = text.trim().toLowerCase();
  const iso = /^(\d{4})-(\d{1,2})-(\d{1,2})$/.exec(plain);
  if (iso) return onCalendar(Number(iso[1]), Number(iso[2]), Number(iso[3]));
  const words = /^(?:[a-z]{3,9},? )?(?:(\d{1,2})\.? ([a-z]{3,9})|([a-z]{3,9}) (\d{1,2})),? (\d{4})$/.exec(
    plain,
  );
  if (!words) return null;
  const name = (words[2] ?? words[3] ?? "").slice(0, 3);
  const month = MONTHS.indexOf(name) + 1;
  return month > 0 ? onCalendar(Number(words[5]), month, Number(words[1] ?? words[4])) : null;
}

/** A date as above and a time of day, "18 Nov 2026 15:45" or "2026-11-18T15:45", as "2026-11-18T15:45". */
export function readInstant(text: string): string | null {
  const found = /^(.+?)[ tT,]+(\d{1,2}):(\d{2})$/.exec(text.trim());
  const day = found && readDate(found[1]!);
  if (!found || !day || Number(found[2]) > 23 || Number(found[3]) > 59) return null;
  return `${day}T${two(found[2]!)}:${found[3]}`;
}

/**
 * A typed number with a point for its decimals and nothing between its thousands: "50 000", "1,5", "1,500.25" and
 * "1.500,25" are one number each. "1.500" and "1,500" are two; they come back with a mark that no number has, and are
 * refused by whoever reads them.
 */
export function plainNumber(text: string): string {
  const plain = text
    .trim()
    .replace(/[\s\u00a0\u202f']/g, "")
    .replace("−", "-");
  if (/^[+-]?[1-9]\d{0,2}([.,])\d{3}(\1\d{3})*$/.test(plain)) {
    const several = plain.split(/[.,]/).length > 2;
    return several ? plain.replace(/[.,]/g, "") : `${plain}?`;
  }
  if (/^[+-]?\d{1,3}(,\d{3})+\.\d+$/.test(plain)) return plain.replace(/,/g, "");
  if (/^[+-]?\d{1,3}(\.\d{3})+,\d+$/.test(plain)) return plain.replace(/\./g, "").replace(",", ".");
  return /^[+-]?\d*,\d+$/.test(plain) ? plain.replace(",", ".") : plain;
}

/** Why a typed number was not understood, where its separator is to blame. */
export const separatorProblem = (text: string): string | null =>
  plainNumber(text).endsWith("?")
    ? `“${text.trim()}” can be read two ways: leave the separator of thousands out, or write one decimal more or less.`
    : null;
