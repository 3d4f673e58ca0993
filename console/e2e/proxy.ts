import { createServer, type IncomingMessage, request, type Server } from "node:http";
import type { AddressInfo } from "node:net";

/** A proxy that has the console under a path, and takes that path off or does not. */
export class PathProxy {
  private readonly server: Server;

  constructor(
    private readonly to: URL,
    private readonly path: string,
    private readonly takesOff: boolean,
  ) {
    this.server = createServer((incoming, outgoing) => {
      const url = incoming.url ?? "/";
      if (!url.startsWith(`${this.path}/`)) {
        outgoing.writeHead(404).end("this site has other things too");
        return;
      }
      const call = this.call(incoming, (answer) => {
        outgoing.writeHead(answer.statusCode ?? 502, answer.headers);
        answer.pipe(outgoing);
      });
      call.on("error", () => outgoing.destroy());
      outgoing.on("close", () => call.destroy());
      incoming.pipe(call);
    });
    // Pictures come over a WebSocket.
    this.server.on("upgrade", (incoming: IncomingMessage, socket, head) => {
      const call = this.call(incoming, () => socket.destroy());
      call.on("error", () => socket.destroy());
      call.on("upgrade", (answer, other) => {
        const lines = answer.rawHeaders.reduce((text, part, at) => text + part + (at % 2 === 0 ? ": " : "\r\n"), "");
        socket.write(`HTTP/1.1 101 Switching Protocols\r\n${lines}\r\n`);
        other.write(head);
        other.pipe(socket).pipe(other);
        for (const end of [other, socket]) end.on("error", () => [other, socket].forEach((each) => each.destroy()));
      });
      call.end();
    });
  }

  private call(incoming: IncomingMessage, onAnswer: (answer: IncomingMessage) => void) {
    const url = incoming.url ?? "/";
    const path = this.takesOff ? url.slice(this.path.length) : url;
    return request({ host: this.to.hostname, port: this.to.port, method: incoming.method, path, headers: incoming.headers }, onAnswer);
  }

  async open(): Promise<string> {
    await new Promise<void>((resolve) => this.server.listen(0, "127.0.0.1", resolve));
    return `http://127.0.0.1:${(this.server.address() as AddressInfo).port}${this.path}`;
  }

  close(): void {
    this.server.closeAllConnections();
    this.server.close();
  }
}
