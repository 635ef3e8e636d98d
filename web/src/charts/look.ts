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
