// Calls to the service. Errors are the service's own problem details; the console words none of its own.
import type { Problem } from "./api-types";
import { at } from "./base";

export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly problem: Partial<Problem>,
  ) {
    super(problem.detail ?? `the service answered ${status}`);
  }
}

export async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  let answer: Response;
  try {
    answer = await fetch(at(path), {
      method,
      headers: { "X-Reed-Console": "1", ...(body === undefined ? {} : { "Content-Type": "application/json" }) },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new ApiError(0, { detail: "The service does not answer. Is it running?", code: "service.unreachable" });
  }
  if (!answer.ok) {
    const problem = (await answer.json().catch(() => ({}))) as Partial<Problem>;
    throw new ApiError(answer.status, problem);
  }
  return (answer.status === 204 ? undefined : await answer.json()) as T;
}
