import { describe, expect, it } from "vitest";
import { answer, CallError } from "./client";

const response = (status: number) => new Response(null, { status });

describe("answer", () => {
  it("gives the data of a success", async () => {
    expect(await answer(Promise.resolve({ data: [1], response: response(200) }))).toEqual([1]);
  });

  it("throws the problem of a refusal", async () => {
    const error = { code: "name_taken", detail: "The name is taken.", next_step: "Choose another name." };
    const call = answer(Promise.resolve({ error, response: response(409) }));
    await expect(call).rejects.toMatchObject({ code: "name_taken", message: "The name is taken.", nextStep: "Choose another name." });
  });

  it("copes with an answer that is no problem document", async () => {
    const call = answer(Promise.resolve({ error: "<html>", response: response(502) }));
    await expect(call).rejects.toMatchObject({ code: "unknown", message: "The service answered 502." });
  });

  it("says that the service does not answer", async () => {
    const failure = await answer(Promise.reject(new TypeError("failed"))).catch((error: unknown) => error);
    expect(failure).toBeInstanceOf(CallError);
    expect(failure).toMatchObject({ code: "unreachable" });
  });
});
