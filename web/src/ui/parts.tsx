import type { ReactNode } from "react";
import { Refusal } from "../api/client";

/** Label, number, qualifier: the qualifier does the honest work. */
export function Figure({
  label,
  value,
  note,
  tone = "",
  title,
  onOpen,
}: {
  label: string;
  value: string;
  note?: ReactNode;
  tone?: string;
  title?: string;
  /** Leads to where the figure has its place. */
  onOpen?: () => void;
}) {
  const look = `text-section leading-6 font-semibold whitespace-nowrap ${tone}`;
  return (
    <div className="min-w-0" title={title}>
      <div className="text-xs text-soft">{label}</div>
      {onOpen ? (
        <button
          type="button"
          className={`${look} block underline decoration-hairline decoration-dotted underline-offset-3 hover:decoration-ink`}
          onClick={onOpen}
        >
          {value}
        </button>
      ) : (
        <div className={look}>{value}</div>
      )}
      <div className="truncate text-xs text-soft">{note ?? " "}</div>
    </div>
  );
}

export function Skeleton({ className = "" }: { className?: string }) {
  return <div className={`skeleton ${className}`} aria-hidden="true" />;
}

/** A place that is still empty: what belongs there and the first step. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="px-6 py-10 text-center">
      <p className="font-serif text-section">{title}</p>
      <div className="mx-auto mt-2 max-w-lg text-soft">{children}</div>
    </div>
  );
}

export function ErrorNote({ error, onRetry }: { error: unknown; onRetry?: () => void }) {
  if (!error) return null;
  const message = error instanceof Error ? error.message : String(error);
  const first = error instanceof Refusal ? error.problems.slice(1) : [];
  return (
    <div role="alert" className="rounded-card border border-loss px-3 py-2 text-loss">
      <p className="font-medium">{message}</p>
      {first.map((problem) => (
        <p key={problem.path + problem.message}>{problem.message}</p>
      ))}
      {onRetry && (
        <button type="button" className="link mt-1" onClick={onRetry}>
          Try again
        </button>
      )}
    </div>
  );
}

export function Progress({ share, label }: { share: number; label: string }) {
  return (
    <div
      className="h-1.5 overflow-hidden rounded-full bg-line"
      role="progressbar"
      aria-label={label}
      aria-valuemin={0}
      aria-valuemax={100}
      aria-valuenow={Math.round(share * 100)}
    >
      <div className="h-full bg-sea" style={{ width: `${Math.max(2, share * 100)}%` }} />
    </div>
  );
}

/** A small line without axes: where something has been. */
export function Spark({
  values,
  width = 150,
  height = 40,
}: {
  values: number[];
  width?: number;
  height?: number;
}) {
  if (values.length < 2) return null;
  const low = Math.min(...values);
  const span = Math.max(...values) - low || 1;
  const y = (value: number) => (height - 3 - ((value - low) / span) * (height - 6)).toFixed(1);
  const points = values.map((value, i) => `${((i / (values.length - 1)) * width).toFixed(1)},${y(value)}`);
  return (
    <svg width={width} height={height} role="img" aria-label="equity of the last run">
      <line x1={0} x2={width} y1={y(values[0]!)} y2={y(values[0]!)} stroke="var(--hairline)" />
      <polyline points={points.join(" ")} fill="none" stroke="var(--sea)" strokeWidth={1.4} />
    </svg>
  );
}
