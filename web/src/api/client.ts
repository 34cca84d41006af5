import createClient from 'openapi-fetch';
import type { components, paths } from './schema';

export type Schemas = components['schemas'];
export type WorkflowItem = Schemas['WorkflowItem'];
export type WorkflowDetail = Schemas['WorkflowDetail'];
export type Proof = Schemas['ProofBody'];
export type ProofLines = Schemas['ProofLines'];
export type Line = Schemas['Line'];
export type Problem = Schemas['Problem'];
export type TrailMark = Schemas['TrailMark'];
export type FieldItem = Schemas['FieldItem'];
export type Op = Schemas['Op'];
export type ArrivalItem = Schemas['ArrivalItem'];
export type ArrivalDetail = Schemas['ArrivalDetail'];
export type PostItem = Schemas['PostItem'];
export type MessageDoc = Schemas['Document'];
export type Person = Schemas['Person'];

export type ConnectionItem = Schemas['ConnectionItem'];
export type ConnectionDetail = Schemas['ConnectionOutputBody'];
export type ConnectionKind = Schemas['ConnectionKind'];
export type Setting = Schemas['Setting'];
export type Choice = Schemas['Choice'];
export type Step = Schemas['ProofStep'];
export type SourceItem = Schemas['SourceItem'];
export type RequestReading = Schemas['RequestReading'];
export type RecordItem = Schemas['RecordItem'];
export type Preview = Schemas['PreviewOutputBody'];
export type Begin = Schemas['Begin'];
export type DestinationItem = Schemas['DestinationItem'];
export type AttemptItem = Schemas['AttemptItem'];
export type StepItem = Schemas['StepItem'];
export type Question = Schemas['Question'];

export const api = createClient<paths>({
  baseUrl: globalThis.location.origin,
  // Looked up at each request, so that a test may put a server of its own there.
  fetch: (request) => globalThis.fetch(request),
});

/** An error answer of the API, in words for the person. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly details: string[] = [],
  ) {
    super(message);
  }
}

/** What an error says. */
export const wordsOf = (e: unknown): string => (e instanceof Error ? e.message : String(e));

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** Gives an answer's data, or throws what the server said. */
export async function answerOf<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch {
    throw new ApiError(0, 'The server does not answer. Is it running?');
  }
  if (answer.error !== undefined || !answer.response.ok) {
    const p = (answer.error ?? {}) as { detail?: string; title?: string; errors?: { message?: string }[] };
    const details = (p.errors ?? []).map((e) => e.message ?? '').filter(Boolean);
    throw new ApiError(
      answer.response.status,
      p.detail ?? p.title ?? `The server said ${answer.response.status}`,
      details,
    );
  }
  return answer.data as T;
}
