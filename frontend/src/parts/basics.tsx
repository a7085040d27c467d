import type { ButtonHTMLAttributes, ReactNode } from "react";

import { Problem } from "../api/client";

type Look = "accent" | "ink" | "plain" | "link";

const LOOKS: Record<Look, string> = {
  accent: "bg-accent text-accent-text border-accent hover:brightness-110",
  ink: "bg-ink text-paper border-ink hover:brightness-110",
  plain: "bg-card text-ink border-rule hover:border-ink",
  // Its words stand where other words stand: what is added for the finger and the outline is taken off again beside it.
  link: "-mx-1 [button+&:not(.ml-auto)]:ml-1 border-x-0 border-transparent underline underline-offset-2 hover:no-underline",
};

interface ButtonProps extends ButtonHTMLAttributes<HTMLButtonElement> {
  look?: Look;
  large?: boolean;
}

/** A button; its label says what will happen. */
export function Button({ look = "plain", large = false, className = "", ...rest }: ButtonProps) {
  const size = large ? "h-10 text-l max-md:h-11" : "h-8 text-m max-md:h-11";
  const room = look === "link" ? "px-1" : "px-3";
  return (
    <button
      type="button"
      className={`rounded-sm border font-semibold whitespace-nowrap disabled:border-line disabled:bg-transparent disabled:text-ink2 disabled:brightness-100 ${size} ${room} ${LOOKS[look]} ${className}`}
      {...rest}
    />
  );
}

/** What went wrong, what it means for the frames, and what to do. */
export function Trouble({ error, onRetry }: { error: unknown; onRetry?: () => void }) {
  const told = error instanceof Problem ? error : new Problem("That did not work", String(error), "");
  return (
    <div role="alert" className="max-w-[560px] border-l-4 border-accent bg-card px-4 py-3">
      <p className="text-l font-semibold">{told.title}</p>
      <p className="mt-1">
        {told.detail} {told.advice}
      </p>
      {onRetry && (
        <Button className="mt-2" onClick={onRetry}>
          Try again
        </Button>
      )}
    </div>
  );
}

/** Something is being fetched; said only where it takes long enough to be noticed. */
export function Waiting({ what }: { what: string }) {
  return (
    <p role="status" className="animate-[appear_0s_0.4s_both] p-6 text-ink2">
      {what}…
    </p>
  );
}

export function Bar({ share, label }: { share: number; label: string }) {
  return (
    <span
      role="progressbar"
      aria-label={label}
      aria-valuenow={Math.round(share * 100)}
      aria-valuemin={0}
      aria-valuemax={100}
      className="block h-1.5 w-full bg-line"
    >
      <span className="block h-full bg-ink" style={{ width: `${Math.min(share, 1) * 100}%` }} />
    </span>
  );
}

/** The head of a place: its answer in one line, and what can be done at its right. */
export function PageHead({ title, children }: { title: ReactNode; children?: ReactNode }) {
  return (
    <div className="flex min-h-[52px] flex-wrap items-center justify-between gap-x-6 gap-y-2 py-1.5 max-md:py-2.5">
      <h1
        className="text-xxl font-semibold whitespace-nowrap max-md:text-xl max-md:whitespace-normal"
        style={{ fontStretch: "88%" }}
      >
        {title}
      </h1>
      <div className="flex items-center gap-x-4 gap-y-2 max-xl:flex-wrap md:ml-auto md:justify-end">
        {children}
      </div>
    </div>
  );
}

/** Words over the answer, picked like index tabs. */
export function HeadChoice<T extends string>({
  options,
  value,
  onChange,
}: {
  options: { value: T; label: string }[];
  value: T;
  onChange: (value: T) => void;
}) {
  return (
    <span role="group" className="flex gap-6">
      {options.map((option) => (
        <button
          key={option.value}
          type="button"
          aria-pressed={option.value === value}
          onClick={() => onChange(option.value)}
          className={`text-xxl ${option.value === value ? "font-semibold text-ink" : "text-ink2 hover:text-ink"}`}
          style={{ fontStretch: "88%" }}
        >
          {option.label}
        </button>
      ))}
    </span>
  );
}

/** A choice of a few, side by side. */
export function Segments<T extends string>({
  options,
  value,
  onChange,
  label,
}: {
  options: { value: T; label: string }[];
  value: T;
  onChange: (value: T) => void;
  label: string;
}) {
  return (
    <span
      role="group"
      aria-label={label}
      className="inline-flex rounded-sm border border-rule max-md:max-w-full max-md:overflow-x-auto"
    >
      {options.map((option) => (
        <button
          key={option.value}
          type="button"
          aria-pressed={option.value === value}
          onClick={() => onChange(option.value)}
          className={`h-[26px] px-2.5 text-m whitespace-nowrap max-md:h-[42px] ${option.value === value ? "bg-ink font-semibold text-paper" : "text-ink2 hover:text-ink"}`}
        >
          {option.label}
        </button>
      ))}
    </span>
  );
}

export function Key({ children }: { children: ReactNode }) {
  return <kbd className="num rounded-sm border border-rule px-1.5 text-s">{children}</kbd>;
}

export function ColumnHead({ children, note }: { children: ReactNode; note?: ReactNode }) {
  return (
    <div className="flex items-baseline justify-between border-b border-ink pb-1.5">
      <h2 className="text-l font-semibold" style={{ fontStretch: "92%" }}>
        {children}
      </h2>
      {note && <span className="text-s text-ink2">{note}</span>}
    </div>
  );
}

/** A long list of which nothing can be pressed: scrolled by keys as well. */
export function Scroller({
  name,
  className,
  children,
}: {
  name: string;
  className: string;
  children: ReactNode;
}) {
  return (
    <div className={`overflow-auto ${className}`} tabIndex={0} role="group" aria-label={name}>
      {children}
    </div>
  );
}

/** A number with its unit, as a person would copy it. */
export function Figure({ name, text, unit }: { name: string; text: string; unit: string }) {
  return (
    <div className="flex items-baseline justify-between gap-3">
      <dt>{name}</dt>
      <dd className="num text-right">
        <span className="whitespace-nowrap">{text}</span>
        {unit && <span className="text-ink2">{unit === "°" || unit === "%" ? unit : `\u2009${unit}`}</span>}
      </dd>
    </div>
  );
}
