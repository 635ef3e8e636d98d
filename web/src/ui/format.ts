/** Numbers, dates and signs as they are written on every page. Nothing here computes. */

const MINUS = "−";
/** Between thousands; a line does not break there. */
const GAP = "\u00a0";

/** A price of an underlying with as many digits as its size deserves: 3 104, 412.5, 46.03. */
export const price = (value: number | null | undefined) => number(value, priceDigits(value ?? 0));
/** The same as finely as it is quoted: 3 104.5, 46.03. */
export const level = (value: number | null | undefined) => number(value, Math.abs(value ?? 0) < 200 ? 2 : 1);
const priceDigits = (value: number) => (Math.abs(value) < 200 ? 2 : Math.abs(value) < 1000 ? 1 : 0);

export function number(value: number | null | undefined, digits = 0): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return "–";
  const text = Math.abs(value).toFixed(digits);
  const [whole = "", rest] = text.split(".");
  const grouped = whole.replace(/\B(?=(\d{3})+(?!\d))/g, GAP);
  const sign = value < 0 && Number(text) !== 0 ? MINUS : "";
  return sign + grouped + (rest ? `.${rest}` : "");
}

/** With an explicit plus, for gains and losses. */
export function signed(value: number | null | undefined, digits = 0): string {
  const text = number(value, digits);
  return value !== null && value !== undefined && value > 0 && /[1-9]/.test(text) ? `+${text}` : text;
}

export function percent(share: number | null | undefined, digits = 1): string {
  return share === null || share === undefined ? "–" : `${number(share * 100, digits)}\u00a0%`;
}

export function signedPercent(share: number | null | undefined, digits = 1): string {
  return share === null || share === undefined ? "–" : `${signed(share * 100, digits)}\u00a0%`;
}

export function tone(value: number | null | undefined): string {
  if (value === null || value === undefined || value === 0) return "";
  return value > 0 ? "text-gain" : "text-loss";
}

const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
const DAYS = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];

/** "2026-11-04" (or with a time) as "4 Nov 2026". */
export function date(iso: string | null | undefined): string {
  if (!iso) return "–";
  const [year, month, day] = iso.slice(0, 10).split("-").map(Number);
  return `${day} ${MONTHS[(month ?? 1) - 1]} ${year}`;
}

/** "2026-11-04" as "Wed 4 Nov". */
export function day(iso: string): string {
  const [year = 0, month = 1, number_ = 1] = iso.slice(0, 10).split("-").map(Number);
  return `${DAYS[new Date(Date.UTC(year, month - 1, number_)).getUTCDay()]} ${number_} ${MONTHS[month - 1]}`;
}

export function clock(seconds: number): string {
  const whole = Math.max(0, Math.round(seconds));
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, "0")}`;
}

export function plural(count: number, one: string, many = `${one}s`): string {
  return `${number(count)} ${count === 1 ? one : many}`;
}

/** An instant in the reader's own time, for when something was changed. */
export function ago(iso: string): string {
  const at = new Date(iso);
  const today = new Date().toDateString() === at.toDateString();
  const time = `${String(at.getHours()).padStart(2, "0")}:${String(at.getMinutes()).padStart(2, "0")}`;
  return today ? time : `${at.getDate()} ${MONTHS[at.getMonth()]} ${time}`;
}
