import type { ComponentProps } from "react";

const looks = {
  lamp: "bg-lamp text-lamp-ink hover:brightness-110",
  plain: "border border-line bg-surface text-ink hover:bg-raised",
  danger: "border border-failed text-failed bg-transparent hover:bg-raised",
  bare: "text-soft hover:bg-raised hover:text-ink",
};

export function Button({ look = "plain", className = "", ...rest }: ComponentProps<"button"> & { look?: keyof typeof looks }) {
  return (
    <button
      type="button"
      className={`inline-flex h-9 items-center gap-2 rounded-lg px-3.5 font-medium whitespace-nowrap transition-colors disabled:opacity-50 ${looks[look]} ${className}`}
      {...rest}
    />
  );
}
