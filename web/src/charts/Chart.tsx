import type { EChartsCoreOption, EChartsType } from "echarts/core";
import { Download } from "lucide-react";
import { useEffect, useRef } from "react";
import { echarts } from "./echarts";
import { FONT, type Ink, ink } from "./look";

interface Props {
  name: string;
  height: number;
  option: (colours: Ink) => EChartsCoreOption;
  /** Rows for the CSV export, the first one the header. */
  rows?: () => (string | number)[][];
  zoom?: boolean;
  /** A click anywhere, at the nearest place of the first axis. */
  onClick?: (dataIndex: number) => void;
  /** A click on something drawn: its place in its series, and which series that is. */
  onPoint?: (dataIndex: number, series: number) => void;
}

function save(href: string, file: string) {
  const link = document.createElement("a");
  link.href = href;
  link.download = file;
  link.click();
}

/** A chart: drawn again when its option or the theme changes, exported as PNG and CSV. */
export default function Chart({ name, height, option, rows, zoom = false, onClick, onPoint }: Props) {
  const place = useRef<HTMLDivElement>(null);
  const chart = useRef<EChartsType | null>(null);
  const clicked = useRef(onClick);
  clicked.current = onClick;
  const pointed = useRef(onPoint);
  pointed.current = onPoint;

  useEffect(() => {
    const made = echarts.init(place.current!, undefined, { renderer: "canvas" });
    chart.current = made;
    const sizes = new ResizeObserver(() => made.resize());
    sizes.observe(place.current!);
    made.getZr().on("click", (event) => {
      const point: [number, number] = [event.offsetX, event.offsetY];
      if (!clicked.current || !made.containPixel("grid", point)) return;
      const index = made.convertFromPixel({ xAxisIndex: 0 }, event.offsetX);
      if (typeof index === "number") clicked.current(index);
    });
    made.on("click", (event) => pointed.current?.(event.dataIndex, event.seriesIndex ?? 0));
    made.getZr().on("dblclick", () => made.dispatchAction({ type: "dataZoom", start: 0, end: 100 }));
    return () => {
      sizes.disconnect();
      made.dispose();
      chart.current = null;
    };
  }, []);

  useEffect(() => {
    const draw = () => {
      const made = chart.current;
      if (!made) return;
      made.setOption(
        {
          animation: false,
          textStyle: { fontFamily: FONT },
          ...(zoom
            ? {
                toolbox: { top: -40, feature: { dataZoom: { yAxisIndex: false } } },
                dataZoom: [
                  { type: "inside", xAxisIndex: "all", zoomOnMouseWheel: "ctrl", moveOnMouseMove: false },
                ],
              }
            : {}),
          ...option(ink()),
        },
        { notMerge: true },
      );
      if (zoom)
        made.dispatchAction({ type: "takeGlobalCursor", key: "dataZoomSelect", dataZoomSelectActive: true });
    };
    // what is read beside it is shown first
    let later = 0;
    const frame = requestAnimationFrame(() => {
      later = window.setTimeout(draw);
    });
    document.addEventListener("strell-theme", draw);
    if (document.fonts.status !== "loaded") document.fonts.ready.then(draw);
    return () => {
      cancelAnimationFrame(frame);
      window.clearTimeout(later);
      document.removeEventListener("strell-theme", draw);
    };
  }, [option, zoom]);

  const csv = () => {
    const text = rows!()
      .map((row) => row.join(","))
      .join("\r\n");
    save(URL.createObjectURL(new Blob([text], { type: "text/csv" })), `${name}.csv`);
  };
  const png = () => {
    const url = chart.current?.getDataURL({ pixelRatio: 2, backgroundColor: ink().surface });
    if (url) save(url, `${name}.png`);
  };
  return (
    <div className="group relative">
      <div ref={place} role="img" aria-label={name} style={{ height }} className="w-full" />
      <div className="absolute top-0 right-0 flex gap-2 bg-surface text-xs opacity-0 group-focus-within:opacity-100 group-hover:opacity-100">
        <button type="button" className="link inline-flex items-center gap-1" onClick={png}>
          <Download size={12} /> PNG
        </button>
        {rows && (
          <button type="button" className="link" onClick={csv}>
            CSV
          </button>
        )}
      </div>
    </div>
  );
}
