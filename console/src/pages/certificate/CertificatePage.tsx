import { RefreshCw } from "lucide-react";
import { useCertificate, useRenewCertificate } from "../../api/queries";
import type { CertificateInUse, CertificateRenewal } from "../../api/types";
import { EmptyNote, ErrorNote, LoadingNote } from "../../components/Notes";
import { TermRow } from "../../components/TermRow";
import { moment } from "../../lib/format";
import { Section } from "../channel/Section";
import { leftText } from "./left";

function InUse({ found, now }: { found: CertificateInUse; now: number }) {
  if (found.is_placeholder) {
    return (
      <EmptyNote title="There is none yet.">
        One of our own stands in for it, which nobody trusts: browsers warn, and encoders stay out, until the authority gives the first.
      </EmptyNote>
    );
  }
  return (
    <dl className="divide-y divide-base-300">
      <TermRow label="For">
        {found.names.map((name) => (
          <span key={name} className="mr-3 inline-block font-mono">
            {name}
          </span>
        ))}
      </TermRow>
      <TermRow label="Ends">
        {moment(found.ends_at)} <span className="text-base-content/70">({leftText(found.ends_at, now)})</span>
      </TermRow>
      <TermRow label="Since">{moment(found.since)}</TermRow>
      <TermRow label="Signed by">{found.issuer}</TermRow>
      <TermRow label="Serial number">
        <span className="font-mono text-xs">{found.serial}</span>
      </TermRow>
      <TermRow label="SHA-256">
        <span className="font-mono text-xs">{found.fingerprint}</span>
      </TermRow>
    </dl>
  );
}

function Renewal({ renewal }: { renewal: CertificateRenewal }) {
  const renew = useRenewCertificate();
  const isBusy = renewal.is_at_work || renew.isPending;
  return (
    <Section
      title="From the authority"
      action={
        <button type="button" className="btn btn-sm" disabled={isBusy} onClick={() => renew.mutate(undefined)}>
          <RefreshCw aria-hidden className={`size-4 ${isBusy ? "motion-safe:animate-spin" : ""}`} />
          {renewal.is_at_work ? "One is being had" : "Have a new one now"}
        </button>
      }
    >
      {renew.error && (
        <div className="p-4">
          <ErrorNote error={renew.error} />
        </div>
      )}
      <dl className="divide-y divide-base-300">
        <TermRow label="Authority">{renewal.directory}</TermRow>
        <TermRow label="Asked for">{renewal.names.join(", ")}</TermRow>
        <TermRow label="Proof">
          {renewal.proof} <span className="text-base-content/70">{renewal.proof === "http-01" ? "(it asks at port 80)" : "(it looks at the handshake at port 443)"}</span>
        </TermRow>
        {renewal.renewed_at && <TermRow label="Last came">{moment(renewal.renewed_at)}</TermRow>}
        {renewal.next_at && !renewal.is_at_work && <TermRow label={renewal.fault ? "Next try" : "Will be renewed"}>{moment(renewal.next_at)}</TermRow>}
        {renewal.fault && (
          <TermRow label="Failed">
            <p className="text-error">{renewal.fault}</p>
            {renewal.failed_at && (
              <p className="mt-1 text-base-content/70">
                At {moment(renewal.failed_at)}
                {renewal.failures > 1 && `, ${renewal.failures} times in a row`}. It is tried again by itself.
              </p>
            )}
          </TermRow>
        )}
      </dl>
    </Section>
  );
}

/** What console, viewers and RTMPS speak TLS with, and how the next one is had. */
export function CertificatePage() {
  const certificate = useCertificate();
  if (certificate.isPending) return <LoadingNote />;
  if (certificate.error) return <ErrorNote error={certificate.error} />;
  const { source, in_use, renewal } = certificate.data;
  return (
    <>
      <h1 className="mb-5 text-2xl font-semibold tracking-tight">Certificate</h1>
      <div className="space-y-5">
        <Section title="In use">
          {source === "none" && (
            <EmptyNote title="There is none: nothing is served over TLS.">
              Name the files of one in [tls] of the settings, or an authority that gives one in [authority], and start the service anew.
            </EmptyNote>
          )}
          {source !== "none" && !in_use && <EmptyNote title="The one in use cannot be read." />}
          {in_use && <InUse found={in_use} now={certificate.dataUpdatedAt} />}
        </Section>
        {source === "files" && <p className="text-sm text-base-content/75">It comes from the files of [tls]. They are read anew when they change; whoever makes them renews it.</p>}
        {renewal && <Renewal renewal={renewal} />}
      </div>
    </>
  );
}
