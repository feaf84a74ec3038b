// The API, typed from its own description, and the questions that views ask.
import {
  QueryClient,
  hashKey,
  isCancelledError,
  keepPreviousData,
  useInfiniteQuery,
  useQuery,
} from '@tanstack/react-query';
import { useCallback } from 'react';
import createClient, { createQuerySerializer } from 'openapi-fetch';
import type { components, paths } from './schema';
import { through, useThrough } from './through';

type Schemas = components['schemas'];
export type State = Schemas['State'];
export type Through = Schemas['Through'];
export type Row = Schemas['Row'];
export type RowWay = Schemas['RowWay'];
export type Cells = Schemas['Cells'];
export type TraceResult = Schemas['Result'];
export type Path = Schemas['Path'];
export type Step = Schemas['Step'];
export type Break = Schemas['Break'];
export type Mend = Schemas['Mend'];
export type Finding = Schemas['Finding'];
export type FindingsAnswer = Schemas['FindingsAnswer'];
export type Effect = Schemas['Effect'];
export type OldAnswer = Schemas['OldAnswer'];
export type ChainLink = Schemas['Link'];
export type UsesAnswer = Schemas['UsesAnswer'];
export type Swap = Schemas['Swap'];
export type Answer = Schemas['Answer'];
export type AnswerRow = Schemas['AnswerRow'];
export type Machine = Schemas['Machine'];
export type Port = Schemas['Port'];
export type Depth = Schemas['Depth'];
export type Open = Schemas['OpenDoor'];
export type Outcome = Schemas['Path']['outcome'];
export type Undecided = Schemas['Undecided'];
export type WallAddress = Schemas['WallAddress'];
export type Entry = Schemas['Entry'];
export type Fault = Schemas['Fault'];
export type Problem = Schemas['Problem'];
export type Clash = Schemas['Clash'];
export type LineAnswer = Schemas['LineAnswer'];
export type TextAnswer = Schemas['TextAnswer'];
export type Vantage = Schemas['Vantage'];
export type CoursesChart = Schemas['Chart'];
export type CourseNode = Schemas['Node'];
export type Stroke = Schemas['Stroke'];
export type Fold = CoursesChart['fold'];
export type Lead = Schemas['Lead'];
export type Comparison = Schemas['Comparison'];
export type Pair = Schemas['Pair'];
export type Segment = Schemas['Segment'];
export type RecordsAnswer = Schemas['Records'];
export type FilterAnswer = Schemas['FilterAnswer'];
export type Calendar = Schemas['Calendar'];
export type Due = Schemas['Due'];
export type SeenLook = Schemas['SeenLook'];
export type Seen = Schemas['Seen'];
export type Sight = Seen['state'];
export type Suspect = Schemas['Suspect'];
export type LookAnswer = Schemas['LookAnswer'];
export type DraftRow = Schemas['DraftRow'];
export type DraftSeen = Schemas['DraftSeen'];
export type WorkStep = Schemas['WorkStep'];
export type SafeOrder = Schemas['Steps'];
export type Proposals = Schemas['Proposals'];
export type Proposal = Schemas['Proposal'];
export type CertificateSheet = Schemas['Sheet'];
export type Certificate = Schemas['Certificate'];
export type Way = Schemas['Way'];
export type Without = Schemas['Without'];
export type Affected = Schemas['Affected'];
export type Stand = Schemas['Stand'];
type PartKind = Without['kind'];
export type FilterLine = Schemas['FilterLine'];
export type Share = Schemas['Share'];
export type PlannedLine = Schemas['PlannedLine'];
export type PlanAnswer = Schemas['PlanAnswer'];
export type Me = Schemas['Me'];
export type Account = Schemas['Account'];
export type Role = Account['role'];
export type Token = Schemas['Token'];
export type ImportAnswer = Schemas['ImportAnswer'];
export type KindWords = Schemas['KindWords'];
export type TableRow = Schemas['TableRow'];
export type WriteAnswer = Schemas['WriteAnswer'];
export type LineMark = Schemas['LineMark'];

const serialized = createQuerySerializer();

/** Asks of the draft that is looked through, where the question does not name another (0: what is in force). */
export const api = createClient<paths>({
  querySerializer: (query) => serialized(through() !== 0 ? { draft: through(), ...query } : query),
});

/** What asks of what is in force, whatever is looked through. */
const inForce = { draft: 0 };

/** What went wrong, in words for the person; the problem itself where the server gave one. */
export class Failure extends Error {
  constructor(
    message: string,
    readonly problem?: Problem,
    /** Nothing answered: asked again later it may. */
    readonly noAnswer = false,
  ) {
    super(message);
  }
}

let left = false;

/** Leaves the page for one that is another's: nothing that was asked here is answered here any more, or sent again. */
export function leavePage() {
  left = true;
  location.reload();
}

/** Gives the answer, or throws a Failure that says what was wrong. */
export async function ask<T>(request: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let result;
  try {
    if (left) await new Promise(() => undefined);
    result = await request;
  } catch {
    throw new Failure('The program does not answer.', undefined, true);
  }
  if (result.response.status === 204) return undefined as T;
  if (result.error !== undefined || result.data === undefined) {
    const problem = result.error as Problem | undefined;
    if (result.response.status === 401 && !new URL(result.response.url).pathname.startsWith('/api/sign-in')) {
      if (queries.getQueryData<Me>(['me'])?.who) void queries.invalidateQueries({ queryKey: ['me'] });
      throw new Failure('You are not signed in any more.', problem, true); // what waits for an answer waits until one is
    }
    throw new Failure(problem?.detail || problem?.title || `The program answered ${result.response.status}.`, problem);
  }
  return result.data;
}

/** Asking again helps where the program did not answer, not where it said what is wrong with the question. */
const again = (count: number, error: Error) => count < 1 && !(error instanceof Failure && error.problem);

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      retry: again,
      staleTime: Infinity,
      refetchOnWindowFocus: false,
      // The same question through another draft is another.
      queryKeyHashFn: (key) => hashKey(key[0] === 'me' ? key : [through(), ...key]),
    },
  },
});

/** An answer that is needed now. Where another revision comes while it is asked for, which takes the question back, it is asked again. */
export async function needed<T>(fetch: () => Promise<T>): Promise<T> {
  for (let tries = 1; ; tries++) {
    try {
      return await fetch();
    } catch (error) {
      if (!isCancelledError(error) || tries === 5) throw error;
    }
  }
}

export function useAppState() {
  return useQuery({ queryKey: ['state'], queryFn: () => ask(api.GET('/api/state')) });
}

export function useUses(word: string) {
  return useQuery({
    queryKey: ['uses', word],
    queryFn: () => ask(api.GET('/api/uses', { params: { query: { of: word } } })),
  });
}

export function useCertificates() {
  return useQuery({
    queryKey: ['certificates'],
    queryFn: ({ signal }) => ask(api.GET('/api/certificates', { signal })),
  });
}

export function useDates() {
  return useQuery({
    queryKey: ['dates'],
    queryFn: ({ signal }) => ask(api.GET('/api/dates', { signal })),
    refetchInterval: 60_000, // an old answer is over by the clock
  });
}

/** The changes that are not in force. */
export function useDrafts() {
  return useQuery({ queryKey: ['drafts'], queryFn: async () => (await ask(api.GET('/api/drafts'))) ?? [] });
}

export function useDraft(id: number) {
  return useQuery({
    queryKey: ['drafts', id],
    queryFn: ({ signal }) => ask(api.GET('/api/drafts/{id}', { params: { path: { id } }, signal })),
    placeholderData: keepPreviousData,
    retry: false,
    // A wait ends by the clock.
    refetchInterval: ({ state: { data } }) =>
      data?.until ? Math.min(Math.max(1000, new Date(data.until).getTime() - Date.now() + 500), longest) : false,
  });
}

/** The longest that a browser can wait for anything, in milliseconds. */
const longest = 2 ** 31 - 1;

/** What a sentence would come to: to publish a name, or to retire something. */
export function usePlans(sentence: string) {
  return useQuery({
    queryKey: ['plans', sentence],
    queryFn: ({ signal }) => ask(api.POST('/api/plans', { body: { sentence }, signal })),
    enabled: sentence !== '',
    retry: false,
  });
}

/** A target followed as if a change were made. */
export function useTraceWith({ remove, add }: { remove: string[]; add: string[] }, target: string, from: string) {
  return useQuery({
    queryKey: ['trace with', remove, add, target, from],
    queryFn: ({ signal }) =>
      ask(api.POST('/api/draft/trace', { body: { base: 0, remove, add, target, from }, signal })),
    enabled: target !== '',
  });
}

/** What was seen of a name or an address from a vantage. */
export function useLooks(name: string, from: string) {
  return useQuery({
    queryKey: ['looks', name, from],
    queryFn: async ({ signal }) =>
      (await ask(api.GET('/api/looks', { params: { query: { name, from } }, signal }))) ?? [],
  });
}

/** What would explain that a target is seen otherwise than recorded. */
export function useSuspects(target: string) {
  return useQuery({
    queryKey: ['suspects', target],
    queryFn: ({ signal }) => ask(api.GET('/api/suspects', { params: { query: { target } }, signal })),
  });
}

/** A mark for each name and port that was looked at from a vantage. */
export function useSightings(from: string) {
  return useQuery({
    queryKey: ['seen', from],
    refetchInterval: 60_000, // looks are made by other programs as well
    queryFn: async ({ signal }) => (await ask(api.GET('/api/seen', { params: { query: { from } }, signal }))) ?? [],
  });
}

/** What becomes of the names without a part of the estate; or, of a name, what it stands on alone. */
export function useWithout(of: string, kind: string, from: string) {
  return useQuery({
    queryKey: ['without', of, kind, from],
    queryFn: ({ signal }) =>
      ask(
        api.GET('/api/without', {
          params: { query: { of, from, ...(kind === '' ? {} : { kind: kind as PartKind | 'name' }) } },
          signal,
        }),
      ),
  });
}

/** The ways in from a vantage that end at a place. */
export function useLeads(to: string, from: string) {
  return useQuery({
    queryKey: ['leads', to, from],
    queryFn: () => ask(api.GET('/api/leads', { params: { query: { to, from } } })),
  });
}

interface TableAsked {
  kind: string;
  like: string;
  by: string;
  down: boolean;
  /** The first row in sight. */
  first: number;
  /** A record that is looked for among the rows; '' for none. */
  line: string;
}

/** Rows are asked for so many at a time, and anew once those in sight come near an end of them. */
const rowsAtOnce = 1000;

/** Records of a kind as rows: those in sight, and many around them. */
export function useTable({ first, line, ...question }: TableAsked) {
  const from = first < 750 ? 0 : Math.floor((first - 250) / 500) * 500;
  return useQuery({
    queryKey: ['table', question, from, line],
    queryFn: ({ signal }) =>
      ask(
        api.GET('/api/table', {
          params: {
            query: {
              kind: question.kind,
              like: question.like || undefined,
              by: question.by || undefined,
              down: question.down || undefined,
              from,
              most: rowsAtOnce,
              line: line || undefined,
            },
          },
          signal,
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

const noMarks: ReadonlyMap<string, LineMark> = new Map();

/** What is wrong, by the record at which it is shown; of several the first, which weighs most. */
export function useMarks(kind: string): ReadonlyMap<string, LineMark> {
  const { data } = useQuery({
    queryKey: ['marks'],
    queryFn: async ({ signal }) => (await ask(api.GET('/api/marks', { signal }))) ?? [],
    placeholderData: keepPreviousData,
    select: useCallback(
      (marks: LineMark[]) => {
        const out = new Map<string, LineMark>();
        for (const m of marks) if (m.line.startsWith(`${kind} `) && !out.has(m.line)) out.set(m.line, m);
        return out;
      },
      [kind],
    ),
  });
  return data ?? noMarks;
}

/** What depends on some records, and what becomes of it without them. */
export function useDepends(lines: string[]) {
  return useQuery({
    queryKey: ['depends', lines],
    queryFn: ({ signal }) => ask(api.POST('/api/table/depends', { body: { lines }, signal })),
    retry: false,
  });
}

/** What a record means, in words. */
export function useMeaning(kind: string, line: string) {
  const { data } = useQuery({
    queryKey: ['meaning', line],
    queryFn: ({ signal }) => ask(api.POST('/api/table/write', { body: { kind, lines: [line], cells: {} }, signal })),
    enabled: line !== '',
    placeholderData: keepPreviousData,
    retry: false,
  });
  return data?.meaning ?? '';
}

/** The questions that are kept under a name. */
export function useQuestions() {
  return useQuery({
    queryKey: ['questions'],
    queryFn: async ({ signal }) => (await ask(api.GET('/api/questions', { signal }))) ?? [],
  });
}

export function useFilter(name: string) {
  return useQuery({
    queryKey: ['filter', name],
    queryFn: () => ask(api.GET('/api/filter', { params: { query: { name } } })),
    placeholderData: keepPreviousData,
  });
}

/** The lines that close a door. */
export function useClosing(from: string, o: Open) {
  const query = { from, address: o.address, ports: o.ports, transport: o.transport as 'tcp' | 'udp' };
  return useQuery({
    queryKey: ['exposure', 'close', query],
    queryFn: () => ask(api.GET('/api/exposure/close', { params: { query } })),
  });
}

export function useAnswers(from: string) {
  return useQuery({
    queryKey: ['answers', from],
    queryFn: () => ask(api.GET('/api/answers', { params: { query: { from } } })),
    placeholderData: keepPreviousData,
  });
}

export function usePorts() {
  return useQuery({ queryKey: ['ports'], queryFn: async () => (await ask(api.GET('/api/ports'))) ?? [] });
}

export function useMachinePorts(machine: string) {
  return useQuery({
    queryKey: ['ports', machine],
    queryFn: () => ask(api.GET('/api/ports/machine', { params: { query: { machine } } })),
    placeholderData: keepPreviousData,
  });
}

/** The next free port above another, on an address or on any; asked for where above is a port. */
export function useFree(machine: string, above: number | null, transport: 'tcp' | 'udp' = 'tcp', address = '') {
  const query = { machine, above: above ?? 0, transport, address };
  return useQuery({
    queryKey: ['ports', machine, 'free', query],
    queryFn: () => ask(api.GET('/api/ports/free', { params: { query } })),
    enabled: above !== null,
    placeholderData: keepPreviousData,
  });
}

export function usePlan() {
  return useQuery({ queryKey: ['plan'], queryFn: async () => (await ask(api.GET('/api/plan'))) ?? [] });
}

/** The change that switches planned lines on. */
export function useSwitch(lines: string[]) {
  return useQuery({
    queryKey: ['plan', lines],
    queryFn: () => ask(api.POST('/api/plan/on', { body: { lines } })),
    enabled: lines.length > 0,
  });
}

export function useCounts() {
  return useQuery({
    queryKey: ['counts'],
    queryFn: () => ask(api.GET('/api/counts')),
    placeholderData: keepPreviousData,
  });
}

export function useNames(from: string) {
  return useQuery({
    queryKey: ['names', from],
    queryFn: () => ask(api.GET('/api/names', { params: { query: { from } } })),
    placeholderData: keepPreviousData,
  });
}

export function useTrace(target: string, from: string) {
  return useQuery({
    queryKey: ['trace', target, from],
    queryFn: () => ask(api.GET('/api/trace', { params: { query: { target, from } } })),
    placeholderData: keepPreviousData,
    enabled: target !== '',
  });
}

export interface CoursesAsked {
  fold: Fold | '';
  through: string[];
  like: string;
}

/** Names drawn as courses. */
export function useCourses(from: string, { fold, through, like }: CoursesAsked) {
  return useQuery({
    queryKey: ['courses', from, fold, through, like],
    queryFn: ({ signal }) =>
      ask(
        api.GET('/api/courses', {
          params: { query: { from, fold: fold || undefined, through, like: like || undefined } },
          signal,
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

/** Two traces side by side; the other is of the same target and vantage where it does not say otherwise. */
export function useComparison(
  target: string,
  from: string,
  other: { other: string; otherfrom: string; revision: string; draft: string },
) {
  return useQuery({
    queryKey: ['compare', target, from, other],
    queryFn: () =>
      ask(
        api.GET('/api/compare', {
          params: {
            query: {
              target,
              from,
              other: other.other || undefined,
              otherfrom: other.otherfrom || undefined,
              revision: other.revision ? Number(other.revision) : undefined,
              ...(other.draft && { with: Number(other.draft), ...inForce }), // beside what is in force
            },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

export function useExposure(from: string) {
  return useQuery({
    queryKey: ['exposure', from],
    queryFn: () => ask(api.GET('/api/exposure', { params: { query: { from } } })),
    placeholderData: keepPreviousData,
  });
}

/** What another revision or vantage has open that this has not, and the other way round. */
export function useExposureChanges(from: string, against: string) {
  return useQuery({
    queryKey: ['exposure', from, 'changes', against],
    queryFn: () => ask(api.GET('/api/exposure/changes', { params: { query: { from, with: against } } })),
    enabled: against !== '',
  });
}

export function useFindings() {
  return useQuery({ queryKey: ['findings'], queryFn: () => ask(api.GET('/api/findings')) });
}

/** Every code that may be found, and what helps. */
export function useCodes() {
  return useQuery({ queryKey: ['codes'], queryFn: () => ask(api.GET('/api/codes')) });
}

export function useRecords() {
  return useQuery({ queryKey: ['records'], queryFn: () => ask(api.GET('/api/records')) });
}

export function useVantages() {
  return useQuery({ queryKey: ['vantages'], queryFn: () => ask(api.GET('/api/vantages')) });
}

/** Which changes are asked for: of whom, with a line of which kind, with which word in them. */
export interface LogQuestion {
  who: string;
  kind: string;
  word: string;
}

const logPage = 100;

/** The changes, the newest first, as many as were asked for. */
export function useLog(of: LogQuestion) {
  return useInfiniteQuery({
    queryKey: ['log', of],
    queryFn: async ({ pageParam, signal }) =>
      (await ask(
        api.GET('/api/log', { params: { query: { ...of, limit: logPage, before: pageParam, draft: 0 } }, signal }),
      )) ?? [],
    initialPageParam: 0,
    getNextPageParam: (last) => (last.length < logPage ? undefined : last.at(-1)?.revision),
    placeholderData: keepPreviousData,
  });
}

/** The last changes, whatever they are. */
export function useLastChanges() {
  const log = useLog({ who: '', kind: '', word: '' });
  return log.data?.pages[0] ?? [];
}

/** What two revisions differ in; 0 is the one in force. */
export function useBetween(from: number, to: number) {
  return useQuery({
    queryKey: ['between', from, to],
    queryFn: ({ signal }) => ask(api.GET('/api/log/between', { params: { query: { from, to, draft: 0 } }, signal })),
    enabled: from > 0,
  });
}

export function useKinds() {
  return useQuery({ queryKey: ['kinds'], queryFn: () => ask(api.GET('/api/kinds')) });
}

/**
 * The rows of a view as they are in force, while a draft is looked through: what is marked is held against them. Nothing is asked while
 * there is none.
 */
export function useInForce<T>(of: readonly string[], ask: (query: { draft: number }) => Promise<T>) {
  const looking = useThrough() !== 0;
  const { data } = useQuery({ queryKey: ['in force', ...of], queryFn: () => ask(inForce), enabled: looking });
  return looking ? data : undefined;
}

/** Tells every view that the estate has moved; what they show stays until the new answer is there. */
export function refresh() {
  return queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'kinds' });
}
