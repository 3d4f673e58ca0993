/** Said on every page that came over the net in the clear: what is typed there can be read on the way. */
export function OpenLine() {
  if (window.isSecureContext) return null;
  return (
    <p role="alert" className="bg-error px-4 py-1 text-center text-sm text-error-content">
      This console is open to the net without TLS: passwords and keys can be read on the way. Give it a certificate, a proxy with TLS, or a tunnel.
    </p>
  );
}
