import { createServer, type Server } from "node:http";
import type { AddressInfo } from "node:net";
import { writeFileSync } from "node:fs";
import { join } from "node:path";

/** Object storage in memory, which takes and gives away everything. */
export class Storage {
  private readonly objects = new Map<string, Buffer>();
  private readonly server: Server;
  url = "";

  constructor() {
    this.server = createServer((request, response) => {
      const path = new URL(request.url ?? "/", "http://storage").pathname;
      response.setHeader("access-control-allow-origin", "*");
      const parts: Buffer[] = [];
      request.on("data", (part: Buffer) => parts.push(part));
      request.on("end", () => {
        const object = this.objects.get(path);
        if (request.method === "PUT") {
          this.objects.set(path, Buffer.concat(parts));
          response.setHeader("etag", '"1"').end();
        } else if (request.method === "DELETE") {
          this.objects.delete(path);
          response.writeHead(204).end();
        } else if (object) response.end(object);
        else response.writeHead(404).end();
      });
    });
  }

  async open(): Promise<void> {
    await new Promise<void>((resolve) => this.server.listen(0, "127.0.0.1", resolve));
    this.url = `http://127.0.0.1:${(this.server.address() as AddressInfo).port}`;
  }

  /** A file with what requests are signed with, which nobody looks at here. */
  secret(folder: string): string {
    const path = join(folder, "secret");
    writeFileSync(path, "a secret for requests");
    return path;
  }

  close(): void {
    this.server.closeAllConnections();
    this.server.close();
  }
}
