import { RefreshCw } from "lucide-react";
import type { ReactNode } from "react";
import { useCertificate, useRenewCertificate } from "../../api/queries";
import type { CertificateInUse, CertificateRenewal } from "../../api/types";
import { EmptyNote, ErrorNote, LoadingNote } from "../../components/Notes";
import { moment } from "../../lib/format";
import { Section } from "../channel/Section";
import { leftText } from "./left";

function Row({ label, children }: { label: string; children: ReactNode }) {
  return (
    <div className="grid gap-x-4 px-4 py-2.5 text-sm sm:grid-cols-[10rem_1fr] sm:px-5">
      <dt className="text-base-content/70">{label}</dt>
      <dd className="min-w-0 [overflow-wrap:anywhere]">{children}</dd>
    </div>
  );
}

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
      <Row label="For">
        {found.names.map((name) => (
          <span key={name} className="mr-3 inline-block font-mono">
            {name}
          </span>
        ))}
      </Row>
      <Row label="Ends">
        {moment(found.ends_at)} <span className="text-base-content/70">({leftText(found.ends_at, now)})</span>
      </Row>
      <Row label="Since">{moment(found.since)}</Row>
      <Row label="Signed by">{found.issuer}</Row>
      <Row label="Serial number">
        <span className="font-mono text-xs">{found.serial}</span>
      </Row>
      <Row label="SHA-256">
        <span className="font-mono text-xs">{found.fingerprint}</span>
      </Row>
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
        <Row label="Authority">{renewal.directory}</Row>
        <Row label="Asked for">{renewal.names.join(", ")}</Row>
        <Row label="Proof">
          {renewal.proof} <span className="text-base-content/70">{renewal.proof === "http-01" ? "(it asks at port 80)" : "(it looks at the handshake at port 443)"}</span>
        </Row>
        {renewal.renewed_at && <Row label="Last came">{moment(renewal.renewed_at)}</Row>}
        {renewal.next_at && !renewal.is_at_work && <Row label={renewal.fault ? "Next try" : "Will be renewed"}>{moment(renewal.next_at)}</Row>}
        {renewal.fault && (
          <Row label="Failed">
            <p className="text-error">{renewal.fault}</p>
            {renewal.failed_at && (
              <p className="mt-1 text-base-content/70">
                At {moment(renewal.failed_at)}
                {renewal.failures > 1 && `, ${renewal.failures} times in a row`}. It is tried again by itself.
              </p>
            )}
          </Row>
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
