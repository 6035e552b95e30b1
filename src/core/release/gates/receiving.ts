import { factsOfParcel, type ParcelDocument } from '../../ledger/parcel-document';
import type { ReleaseRecord } from '../../ledger/release-record';
import { noAdmissionRules, type AdmissionRules } from '../../ledger/rules';
import { contentId } from '../../ledger/release';
import { withdrawalOf } from '../../ledger/facts';
import { describePosition } from '../../tags/ordering';
import type { Timestamp } from '../../time';
import type { Verification } from '../../trust/verify';
import type { Despite } from '../despite';
import { evidenceGates, noRuling, notFrozen } from './admission';
import type { Gate } from './gate';
import type { Passage } from './passage';
import { cameThrough } from './promotion';

/** The one release of a parcel, and what the parcel says of it. */
export interface ParcelRelease {
  readonly path: string;
  readonly document: Pick<ParcelDocument, 'product' | 'entries'>;
  readonly release: ReleaseRecord;
  /** Who signed what it says. */
  readonly signed: Verification;
}

/** An environment takes builds, or parcels. */
export function takesKind(
  { name, receives }: { readonly name: string; readonly receives: 'parcels' | undefined },
  parcel: ParcelRelease | undefined,
): Gate {
  const gate = 'receives';
  if ((receives === 'parcels') === (parcel !== undefined)) {
    return { gate, outcome: 'met', detail: parcel === undefined ? 'it takes builds' : 'it receives parcels' };
  }
  return parcel === undefined
    ? {
        gate,
        outcome: 'unmet',
        code: 'parcels-only',
        what: 'this environment receives parcels, and no builds',
        object: name,
        detail: `hod.yaml says \`receives: parcels\` for ${name}`,
        remedy: 'publish a release of the other side: `hod publish --parcel FILE --trust-parcel --reason "…"`',
      }
    : {
        gate,
        outcome: 'unmet',
        code: 'parcels-not-received',
        what: 'this environment takes builds, and no parcels',
        object: `${describePosition(parcel.release)} in ${parcel.path}, to ${name}`,
        detail: `hod.yaml does not say \`receives: parcels\` for ${name}`,
        remedy: `write \`receives: parcels\` under ${name} in hod.yaml, or name the hod.yaml of the receiving side (--config)`,
      };
}

/** A parcel that comes into an environment, and what that asks. */
export interface Reception {
  readonly parcel: ParcelRelease;
  readonly environment: string;
  readonly rules: AdmissionRules;
  readonly now: Timestamp;
  readonly despite: Despite;
}

/**
 * Asks the rules of an environment that receives parcels: what happened on the other side, the parcel says; freezes are of this side.
 * Whether the parcel is believed is another rule.
 */
export function receptionGates(reception: Reception | undefined): Gate[] {
  if (reception === undefined) {
    return [];
  }
  const { parcel, environment, rules, now, despite } = reception;
  const { document, release: record } = parcel;
  const { served, results, resultRules } = rules;
  const passage = { release: record, to: environment, now, despiteFreeze: despite.freeze };
  return [
    ...(served === undefined
      ? []
      : outsideGates({ document, record }, { from: served, results, resultRules, ...passage })),
    ...(rules.freeze.length > 0 ? [notFrozen(rules, passage)] : []),
  ];
}

function outsideGates(
  { document, record }: { readonly document: ParcelRelease['document']; readonly record: ReleaseRecord },
  {
    from,
    to,
    results,
    resultRules,
    now,
  }: Passage & Pick<AdmissionRules, 'results' | 'resultRules'> & { readonly now: Timestamp },
): Gate[] {
  const facts = factsOfParcel(document);
  const release = facts?.get('release', record.release);
  if (facts === undefined || release === undefined) {
    return [
      {
        gate: 'served-before',
        outcome: 'unmet',
        code: 'not-in-previous-environment',
        what: 'the parcel lacks the history of its release',
        object: `${describePosition(record)} to ${to}`,
        detail:
          facts === undefined
            ? 'the entries of the ledger in it are damaged, or were changed'
            : 'no entry of the ledger in it says that this release was published',
        remedy: 'pack the release again on the other side: `hod pack VERSION --out PLACE`',
      },
    ];
  }
  const content = contentId(record.components);
  const names = record.components.map(({ component }) => component);
  const candidate = { release, components: [], from, to, now, despiteFreeze: false, ruling: noRuling };
  return [
    cameThrough(release, names, { from, to }, withdrawalOf(facts, from, content)),
    ...evidenceGates({ ...noAdmissionRules, results, resultRules }, candidate, facts, facts.get('evidence', content)),
  ].map(saidByParcel);
}

/** A rule about the other side: what is missing is mended there. */
function saidByParcel(gate: Gate): Gate {
  return gate.outcome === 'met'
    ? { ...gate, detail: `${gate.detail}; the parcel says so` }
    : { ...gate, remedy: `on the other side, ${gate.remedy}; then pack the release again, and bring the new parcel` };
}
