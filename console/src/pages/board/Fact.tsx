/** A fact beside its name. */
export function Fact({ label, value }: { label: string; value: string }) {
  return (
    <div className="flex justify-between gap-3">
      <dt className="whitespace-nowrap text-base-content/65">{label}</dt>
      <dd className="text-right font-medium">{value}</dd>
    </div>
  );
}
