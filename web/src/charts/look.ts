import { number } from "../ui/format";

/** How every chart looks; colours come from the page's tokens, so both themes share one file. */
export interface Ink {
  ink: string;
  soft: string;
  hairline: string;
  line: string;
  sea: string;
  gain: string;
  loss: string;
  surface: string;
  replay: string;
}

export function ink(): Ink {
  const style = getComputedStyle(document.documentElement);
  const of = (name: string) => style.getPropertyValue(`--${name}`).trim();
  return {
    ink: of("ink"),
    soft: of("soft"),
    hairline: of("hairline"),
    line: of("line"),
    sea: of("sea"),
    gain: of("gain"),
    loss: of("loss"),
    surface: of("surface"),
    replay: document.documentElement.dataset.theme === "dark" ? "#a98bd0" : "#6a4c93",
  };
}

export const FONT = '"Source Sans 3 Variable", system-ui, sans-serif';

export function axis(colours: Ink) {
  return {
    axisLine: { lineStyle: { color: colours.hairline } },
    axisTick: { show: false },
    axisLabel: { color: colours.soft, fontSize: 11, fontFamily: FONT },
    splitLine: { lineStyle: { color: colours.line } },
  };
}

/** Words that a person wrote, for a tooltip, which is HTML. */
export const asHtml = (text: string) => text.replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);

export function tooltip(colours: Ink) {
  return {
    backgroundColor: colours.surface,
    borderColor: colours.hairline,
    textStyle: { color: colours.ink, fontSize: 12, fontFamily: FONT },
    extraCssText: "box-shadow:none;border-radius:5px;padding:6px 9px",
    transitionDuration: 0,
  };
}

/** One crosshair through all charts that stand above each other. */
export function linkedPointer(colours: Ink) {
  return { link: [{ xAxisIndex: "all" }], lineStyle: { color: colours.soft, type: "dotted" } };
}

export function endLabel(text: string, color: string) {
  return { show: true, formatter: text, color, fontSize: 11, fontFamily: FONT, distance: 4 };
}

/** An axis of underlying prices between two ends; where it meets zero of the other axis does not matter. */
export function priceAxis(colours: Ink, from: number | undefined, to: number | undefined) {
  const style = axis(colours);
  return {
    type: "value",
    min: from,
    max: to,
    ...style,
    splitLine: { show: false },
    axisLine: { onZero: false, lineStyle: { color: colours.hairline } },
    axisLabel: {
      ...style.axisLabel,
      formatter: (price: number) => number(price, (to ?? 0) - (from ?? 0) < 20 && to !== undefined ? 1 : 0),
      showMinLabel: false,
      showMaxLabel: false,
    },
  };
}

/** An axis of money (or Greeks) with some room above and below what is drawn. */
export function moneyAxis(colours: Ink, low: number, high: number, digits = 0) {
  const style = axis(colours);
  return {
    type: "value",
    ...style,
    splitNumber: 4,
    min: low - (high - low) * 0.06,
    max: high + (high - low) * 0.12,
    axisLine: { show: false },
    axisLabel: {
      ...style.axisLabel,
      formatter: (value: number) => number(value, digits),
      showMinLabel: false,
      showMaxLabel: false,
    },
  };
}

/** An axis of volatilities in percent. */
export function volatilityAxis(colours: Ink) {
  const style = axis(colours);
  return {
    type: "value",
    scale: true,
    splitNumber: 3,
    ...style,
    axisLine: { show: false },
    axisLabel: { ...style.axisLabel, formatter: (value: number) => `${number(value)} %` },
  };
}

/** Digits with which labels of an axis that stand so far apart differ. */
export const digitsFor = (step: number) =>
  step > 0 ? Math.min(3, Math.max(0, Math.ceil(-Math.log10(step)))) : 0;
