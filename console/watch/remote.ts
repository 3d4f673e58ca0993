/** Playing on a television, where the browser offers that. */

/** What browsers give a video that can be played elsewhere. */
interface Remote extends EventTarget {
  watchAvailability(callback: (isThere: boolean) => void): Promise<number>;
  prompt(): Promise<void>;
}

/** Shows a button while there is a television; it gets the show by an address, since what comes here piece by piece
 * cannot be handed on. */
export function offerRemote(video: HTMLVideoElement, button: HTMLButtonElement, address: () => string, back: () => void): void {
  const remote = (video as { remote?: Remote }).remote;
  if (!remote) return;
  remote.watchAvailability((isThere) => (button.hidden = !isThere)).catch(() => undefined);
  button.addEventListener("click", () => void remote.prompt().catch(() => undefined));
  remote.addEventListener("connecting", () => {
    video.src = address();
    void video.play().catch(() => undefined);
  });
  remote.addEventListener("disconnect", back);
}
