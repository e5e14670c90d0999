// The service's REST interface, with the types that api/openapi.yaml generates.
import createClient from 'openapi-fetch';
import type { components, paths } from './api.gen';

type Schemas = components['schemas'];
export type Run = Schemas['Run'];
export type Answer = Schemas['Answer'];
export type Family = Schemas['Family'];
export type Bisection = Schemas['Bisection'];
export type Comparison = Schemas['Comparison'];
export type LegComparison = Schemas['LegComparison'];
export type StepLine = Schemas['StepLine'];
export type StepOn = Schemas['StepOn'];
export type RunStep = Schemas['RunStep'];
export type RemarkFamily = Schemas['RemarkFamily'];
export type Region = Schemas['Region'];
export type Reference = Schemas['Reference'];
export type AgainRequest = Schemas['AgainRequest'];
export type CaseHistory = Schemas['CaseHistory'];
export type LegSummary = Schemas['LegSummary'];
export type Leg = Schemas['Leg'];
export type Attempt = Schemas['Attempt'];
export type CaseResult = Schemas['CaseResult'];
export type Artifact = Schemas['Artifact'];
export type Build = Schemas['Build'];
export type Package = Schemas['Package'];
export type Device = Schemas['Device'];
export type Session = Schemas['Session'];
export type Hold = Schemas['Hold'];
export type HeldTree = Schemas['HeldTree'];
export type HeldElement = Schemas['HeldElement'];
export type LiveTold = Schemas['LiveTold'];
export type LiveDone = Schemas['LiveDone'];
export type Deed = Schemas['Deed'];
export type DeviceCheck = Schemas['DeviceCheck'];
export type Pairing = Schemas['Pairing'];
export type Host = Schemas['Host'];
export type IOSBuild = Schemas['IOSBuild'];
export type Lab = Schemas['Lab'];
export type Lending = Schemas['Lending'];
export type Loan = Schemas['Loan'];
export type ProvisioningProfile = Schemas['ProvisioningProfile'];
export type Key = Schemas['Key'];
export type Role = Schemas['Role'];
export type Input = Schemas['Input'];
export type Plan = Schemas['Plan'];
export type Finding = Schemas['Finding'];
export type Fit = Schemas['Fit'];
export type Load = Schemas['Load'];
export type Pool = Schemas['Pool'];
export type PoolDefinition = Schemas['PoolDefinition'];
export type Cover = Schemas['Cover'];
export type Forecast = Schemas['Forecast'];
export type Problem = Schemas['Problem'];
export type Verdict = Schemas['Verdict'];
export type TimelineEvent = Schemas['TimelineEvent'];
export type Timeline = Schemas['Timeline'];
export type LogLine = Schemas['LogLine'];
export type LogLevel = Schemas['LogLevel'];
export type LogOverview = Schemas['LogOverview'];
export type Gauges = Schemas['Gauges'];
export type NetworkRow = Schemas['NetworkRow'];
export type NetworkOverview = Schemas['NetworkOverview'];
export type Exchange = Schemas['Exchange'];
export type RunRequest = Schemas['RunRequest'];

export const base = '/api/v1';
export const http = createClient<paths>({ baseUrl: base });

/** What the service refused, in its own words (RFC 9457). */
export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail ? `${problem.title}: ${problem.detail}` : problem.title);
  }
  get status() {
    return this.problem.status;
  }
}

/** A service that can't be reached, or that answers what it should not. */
export function unreachable(why: string): Refusal {
  return new Refusal({
    type: 'about:blank',
    status: 0,
    title: 'The service does not answer',
    detail: why,
    remedy: 'Check that the service is running. The console reconnects by itself.',
  });
}

/** The data of an answer, or the refusal as an error. */
export async function answer<T>(asked: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let got;
  try {
    got = await asked;
  } catch (e) {
    if (e instanceof DOMException && e.name === 'AbortError') throw e;
    throw unreachable(e instanceof Error ? e.message : String(e));
  }
  if (got.error !== undefined) {
    const p = got.error as Partial<Problem>;
    throw p && typeof p.title === 'string'
      ? new Refusal({ type: 'about:blank', status: got.response.status, ...p } as Problem)
      : unreachable(`status ${got.response.status}`);
  }
  return got.data as T;
}

export function artifactURL(a: { id: string }) {
  return `${base}/artifacts/${a.id}`;
}
