import { useOutletContext } from "react-router";
import type { Live } from "../../api/live";
import { useTurnedAway } from "../../api/queries";
import { Allowed } from "../../components/Allowed";
import { EmptyNote, ErrorNote, LoadingNote } from "../../components/Notes";
import { moment } from "../../lib/format";
import { Addresses } from "./Addresses";
import { BlockButton } from "./BlockButton";

export function TurnedAwayPage() {
  const { board } = useOutletContext<Live>();
  const list = useTurnedAway();
  const items = list.data?.items ?? [];
  return (
    <>
      <h1 className="text-2xl font-semibold tracking-tight">Turned away</h1>
      <p className="mb-5 text-sm text-base-content/70">Publishers and players who were not let in, those alike as one, the newest first.</p>
      {board && board.refused_counts.length > 0 && (
        <p className="mb-5 flex flex-wrap items-center gap-2 text-sm">
          <span className="text-base-content/70">Since the service was started:</span>
          {board.refused_counts.map(({ reason, count }) => (
            <span key={reason} className="badge border-base-300 bg-base-100">
              {reason.replaceAll("_", " ")} {count}×
            </span>
          ))}
        </p>
      )}
      <div className="mb-5">
        <Addresses />
      </div>
      {list.isPending && <LoadingNote />}
      {list.error && <ErrorNote error={list.error} />}
      {list.data && items.length === 0 && (
        <div className="panel">
          <EmptyNote title="Nobody was turned away." />
        </div>
      )}
      {items.length > 0 && (
        <div className="panel overflow-x-auto">
          <table className="table">
            <thead>
              <tr>
                <th>Last</th>
                <th className="text-right">Times</th>
                <th>From</th>
                <th>Channel</th>
                <th>Key</th>
                <th>Why</th>
                <Allowed least="operator">
                  <th>
                    <span className="sr-only">Actions</span>
                  </th>
                </Allowed>
              </tr>
            </thead>
            <tbody>
              {items.map((item) => (
                <tr key={item.id}>
                  <td className="whitespace-nowrap">
                    {moment(item.at)}
                    {item.count > 1 && <p className="text-xs text-base-content/65">since {moment(item.first_at)}</p>}
                  </td>
                  <td className="text-right tabular-nums">{item.count}</td>
                  <td>
                    <span className={item.address ? "font-mono text-sm" : ""}>{item.address ?? "many addresses"}</span>
                    <p className="text-xs text-base-content/65">{[item.protocol?.toUpperCase(), item.encoder].filter(Boolean).join(" · ")}</p>
                  </td>
                  <td className="whitespace-nowrap">{item.channel ?? "–"}</td>
                  <td className="whitespace-nowrap font-mono text-sm">{item.key_prefix ? `${item.key_prefix}-…` : "–"}</td>
                  <td className="max-w-md">{item.detail}</td>
                  <Allowed least="operator">
                    <td>{item.address && <BlockButton address={item.address} />}</td>
                  </Allowed>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  );
}
