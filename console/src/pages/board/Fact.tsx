/** A fact beside its name, with more about it below. */
export function Fact({ label, value, more }: { label: string; value: string; more?: string }) {
  return (
    <div className="flex justify-between gap-3">
      <dt className="whitespace-nowrap text-base-content/65">{label}</dt>
      <dd className="min-w-0 text-right font-medium">
        {value}
        {more && <span className="block truncate font-normal text-base-content/75">{more}</span>}
      </dd>
    </div>
  );
}
