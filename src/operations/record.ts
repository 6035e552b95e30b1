import type { Actor } from '../core/ledger/entry';
import { decideEvidence, type Evidence, type SignOffsCounted } from '../core/release/evidence';
import { withAnnouncing } from '../announcing/announce';
import { Judge } from '../delivery/judge';
import { commitOrders } from '../delivery/orders';
import { appendDeciding } from '../delivery/record';
import { readEvidenceChoice, type NamedRelease } from '../delivery/sources/choice';
import { toRecorded, toReport, type ResultResult, type SignOffResult } from '../results/record';
import { actorOf } from '../session/actor';
import { refuseEmpty } from '../session/open-ledger';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import { environmentNamed, passageInto, type Config, type EnvironmentConfig } from '../workspace/config';
import { readCheckoutRules } from '../workspace/checkout-rules';
import type { ProductRules } from '../core/ledger/rules';
import { peopleOf } from '../core/release/gates/sign-offs';
import { signSignOffs } from '../delivery/sign-off';
import type { Action } from '../core/ledger/entries';
import { hasPassed } from '../core/reports/summary';
import type { Knowledge } from '../core/release/knowledge';
import { carryReport } from '../delivery/report';
import { listReferrers, referrerFacts, unknownTo } from '../delivery/referrers/carry';
import { readReportFile, type ReportFile } from '../workspace/report-file';

/** What every recording of evidence is told. */
export interface EvidenceOptions extends SessionOptions, NamedRelease {
  environment: string;
  /** What the environment serves is meant, whatever is checked out. */
  serving?: true | undefined;
  actor?: string | undefined;
  dryRun?: true | undefined;
}

/** What `record sign-off` is told. */
export interface SignOffOptions extends EvidenceOptions {
  /** Sign with an SSH key: the path of a key, or what git signs with. */
  sign?: string | true | undefined;
}

/** What `record result` is told. */
export interface ResultOptions extends EvidenceOptions {
  name: string;
  /** Undefined where a report says so. */
  passed?: boolean | undefined;
  link?: string | undefined;
  /** The path of a report. */
  report?: string | undefined;
}

/** Records what was found out about what an environment serves, or about a named release in it. */
export async function recordResult(options: ResultOptions): Promise<ResultResult> {
  const { name, link } = options;
  const report = options.report === undefined ? undefined : await readReportFile(options.report);
  const passed = options.passed ?? (report !== undefined && hasPassed(report.report));
  return withProduct(options, async (config, session) => {
    const environment = environmentNamed(config, options.environment);
    const choice = await readEvidenceChoice(config.folder, environment, options);
    const said = { kind: 'result', name, passed, link, report: report?.summary } as const;
    const evidence = { choice, environment: environment.name, said };
    const recorded = await append(evidence, options, { config, session }, report);
    return { ...recorded, name, passed, link: link ?? null, report: toReport(report?.summary) };
  });
}

/** Records that what the environment before serves, or a named release, may enter an environment. */
export async function signOff(options: SignOffOptions): Promise<SignOffResult> {
  return withProduct(options, async (config, session) => {
    const { from, to } = passageInto(config, options.environment);
    const choice = await readEvidenceChoice(config.folder, from, options);
    const { rules } = await readCheckoutRules(config, undefined);
    const evidence = {
      choice,
      environment: to.name,
      said: { kind: 'signed-off' },
      counts: countedBy(to, rules),
    } as const;
    return append(evidence, options, { config, session, rules }, undefined);
  });
}

/** Whose sign-offs an environment counts. */
function countedBy({ admissionRules }: EnvironmentConfig, { groups }: ProductRules): SignOffsCounted {
  const { signOffsFrom: from, signOffsProven } = admissionRules;
  return { groups: from ?? [], people: peopleOf(from, groups), proven: signOffsProven === true };
}

/** Who says something; of a sign-off of a job, who vouches for that job, too. */
async function saidBy(
  { said }: Pick<Evidence, 'said'>,
  actor: () => Promise<Actor>,
): Promise<{ said: Evidence['said']; by: Actor }> {
  const by = await actor();
  return { said: said.kind === 'signed-off' ? { ...said, issuer: by.issuer } : said, by };
}

async function append(
  evidence: Omit<Evidence, 'by'>,
  options: SignOffOptions,
  { config, session, rules }: { readonly config: Config; readonly session: Session; readonly rules?: ProductRules },
  report: ReportFile | undefined,
): Promise<SignOffResult> {
  const { product, folder } = config;
  const { environment } = evidence;
  const dryRun = options.dryRun === true;
  const actor = (): Promise<Actor> => actorOf(options.actor, config, session);
  return withAnnouncing(config, session, { actor, dryRun }, async (ledger) => {
    await refuseEmpty(config, ledger);
    const context = { ledger, orders: commitOrders(folder) };
    const judge = new Judge(context, []);
    const { said, by } =
      options.sign === undefined || rules === undefined
        ? await saidBy(evidence, actor)
        : await signSignOffs(evidence, { key: options.sign, actor: options.actor }, { config, rules, judge, session });
    const decide = (known: Knowledge) => decideEvidence({ ...evidence, said, by: by.name }, known);
    const first = (await judge.decide(decide)).value;
    const along =
      report === undefined || dryRun || said.kind !== 'result'
        ? []
        : await carryReport(report, { ...said, signer: by.signer }, first.chosen, {
            environment: environmentNamed(config, environment),
            session,
          });
    const subjects = along.map(({ target, referrers }) => ({
      target,
      subjects: referrers.map((each) => each.subject),
    }));
    const deciding = async () => {
      const judged = await new Judge(context, [], referrerFacts(subjects)).decide(decide);
      const referrers = unknownTo(judged.facts, along);
      const reported: Action[] = referrers.length === 0 ? [] : [{ kind: 'referrers', environment, referrers }];
      return { ...judged, actions: dryRun ? [] : [...judged.value.actions, ...reported] };
    };
    const { value } = await appendDeciding({ ledger, product, actor: by, observer: session.observer }, deciding);
    await listReferrers(along, ledger);
    const { chosen, actions } = value;
    const isNew = actions.length > 0;
    return { product, environment, by: by.name, dryRun, isNew, releases: toRecorded(chosen) };
  });
}
