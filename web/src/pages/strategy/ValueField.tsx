import { Slider, ToggleGroup } from "radix-ui";
import { useId, useState } from "react";
import type { Schemas } from "../../api/client";
import { plainNumber } from "../../ui/read";

type Param = Schemas["ParamOut"];

interface Props {
  param: Param;
  value: unknown;
  onChange: (value: unknown) => void;
  problem?: string;
  focus?: boolean;
}

/** One value of a sentence, edited as its declaration says. */
export function ValueField({ param, value, onChange, problem, focus }: Props) {
  const id = useId();
  return (
    <div>
      <label htmlFor={id} className="mb-1 block text-xs text-soft">
        {param.label}
        {param.unit && `, ${param.unit}`}
      </label>
      <Editor id={id} param={param} value={value} onChange={onChange} focus={focus} invalid={!!problem} />
      {problem && (
        <p id={`${id}-problem`} role="alert" className="mt-1 text-loss">
          {problem}
        </p>
      )}
    </div>
  );
}

function Editor({
  id,
  param,
  value,
  onChange,
  focus,
  invalid,
}: Omit<Props, "problem"> & { id: string; invalid: boolean }) {
  const invalidity = { "aria-invalid": invalid, "aria-describedby": invalid ? `${id}-problem` : undefined };
  if (param.editor === "choices")
    return (
      <ToggleGroup.Root
        id={id}
        type="multiple"
        aria-label={param.label}
        className="flex gap-1"
        value={value as string[]}
        onValueChange={(chosen) => onChange(Object.keys(param.choices).filter((one) => chosen.includes(one)))}
      >
        {Object.entries(param.choices).map(([choice, shown]) => (
          <ToggleGroup.Item key={choice} value={choice} className="pill">
            {shown}
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
    );
  if (param.editor === "choice" || param.editor === "reference")
    return (
      <ToggleGroup.Root
        id={id}
        type="single"
        aria-label={param.label}
        className="flex flex-wrap gap-1"
        value={String(value ?? "")}
        onValueChange={(choice) => (choice || param.optional) && onChange(choice)}
      >
        {Object.entries(param.choices).map(([choice, shown]) => (
          <ToggleGroup.Item key={choice} value={choice} className="pill">
            {shown}
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
    );
  if (param.editor === "time" || param.editor === "text")
    return (
      <input
        id={id}
        type={param.editor}
        className="field"
        autoFocus={focus}
        value={String(value ?? "")}
        onFocus={(event) => param.editor === "text" && event.target.select()}
        onChange={(event) => onChange(event.target.value)}
        {...invalidity}
      />
    );
  return (
    <NumberEditor
      id={id}
      param={param}
      value={value}
      onChange={onChange}
      focus={focus}
      invalidity={invalidity}
    />
  );
}

function NumberEditor({
  id,
  param,
  value,
  onChange,
  focus,
  invalidity,
}: Omit<Props, "problem"> & { id: string; invalidity: object }) {
  const { minimum, maximum, step } = param;
  const number = Number(value);
  const [typed, setTyped] = useState<string | null>(null);
  const digits = String(step).split(".")[1]?.length ?? 0;
  const shown = typed ?? (typeof value === "number" ? value.toFixed(digits) : String(value ?? ""));
  const slides =
    minimum !== null && maximum !== null && (maximum - minimum) / step <= 400 && Number.isFinite(number);
  return (
    <div className="flex items-center gap-3">
      {slides && (
        <>
          <span className="text-xs text-soft">{minimum}</span>
          <Slider.Root
            className="relative flex h-5 flex-1 touch-none items-center"
            min={minimum}
            max={maximum}
            step={step}
            value={[Math.min(maximum, Math.max(minimum, number))]}
            onValueChange={([slid]) => {
              setTyped(null);
              onChange(Number(slid!.toFixed(6)));
            }}
          >
            <Slider.Track className="relative h-1 flex-1 rounded bg-line">
              <Slider.Range className="absolute h-full rounded bg-sea" />
            </Slider.Track>
            <Slider.Thumb
              aria-label={param.label}
              className="block size-3.5 rounded-full border-2 border-sea bg-surface"
            />
          </Slider.Root>
          <span className="text-xs text-soft">{maximum}</span>
        </>
      )}
      <input
        id={id}
        className="field number w-20 font-semibold"
        inputMode="decimal"
        autoFocus={focus}
        onFocus={(event) => event.target.select()}
        value={shown}
        onChange={(event) => {
          setTyped(event.target.value);
          onChange(read(event.target.value));
        }}
        {...invalidity}
      />
    </div>
  );
}

/** A number as typed, comma or point; what is no number, or two, stays text, so that the server can say so. */
function read(text: string): unknown {
  const plain = plainNumber(text);
  return plain !== "" && !plain.endsWith(".") && Number.isFinite(Number(plain)) ? Number(plain) : text;
}
