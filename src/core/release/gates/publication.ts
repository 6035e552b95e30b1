import type { Component } from '../../build/component';
import type { ContentId } from '../../ledger/release';
import type { Facts } from '../../ledger/facts';
import type { Version } from '../../tags/version';
import { describePosition } from '../../tags/ordering';
import type { Despite } from '../despite';
import type { Gate } from './gate';
import type { ParcelRelease } from './receiving';

/** A version stands for one content, also where no tag rule writes it. */
export function versionFree(version: Version | undefined, content: ContentId, facts: Facts): Gate {
  const gate = 'version-free';
  const taken = version && facts.get('version', version);
  if (version === undefined || taken === undefined || taken.content === content) {
    const detail = version === undefined ? 'it has no version' : `${version} stands for this build alone`;
    return { gate, outcome: 'met', detail };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'version-taken',
    what: 'this version belongs to another build',
    object: version,
    detail: `the ledger has it as release ${taken.release}, which has other content`,
    remedy: 'publish with a new version, or use --next patch; nothing was changed',
  };
}

/** A parcel is taken that somebody signed whom hod.yaml trusts, or on purpose: anybody can write a parcel. */
export function parcelTrusted(
  { path, release, signed }: Pick<ParcelRelease, 'path' | 'release' | 'signed'>,
  { parcel, reason }: Despite,
): Gate {
  const gate = 'parcel';
  if (signed.by !== undefined) {
    return { gate, outcome: 'met', detail: `signed by ${signed.by} (${signed.key})` };
  }
  return parcel
    ? { gate, outcome: 'met', detail: `taken on purpose: ${reason}` }
    : {
        gate,
        outcome: 'unmet',
        code: 'parcel-untrusted',
        what: 'no trusted key signed this parcel',
        object: `${describePosition(release)} in ${path}`,
        detail: ['anyone can write a parcel that names this version and commit', signed.problem],
        remedy:
          'name the key of the other side under `trust: { keys }`; or check where the parcel comes from, and add --trust-parcel --reason "…"',
      };
}

/** Only those components are published by themselves that hod.yaml allows it for. */
export function publishedAlone(product: string, chosen: readonly Component[], all: readonly Component[]): Gate {
  const gate = 'published-together';
  const bound = chosen.filter(({ publishAlone }) => !publishAlone);
  if (chosen.length === all.length || bound.length === 0) {
    const detail = chosen.length === all.length ? 'everything is published' : 'hod.yaml allows it';
    return { gate, outcome: 'met', detail };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'published-together',
    what: 'this component cannot be published alone',
    object: bound.map(({ name }) => name).join(', '),
    detail: `the components of ${product} are published together, so that their tags always belong together`,
    remedy: 'publish them all, or write `publish-alone: true` under it in hod.yaml',
  };
}

/** No build of what is published has failed since its outputs were staged. */
export function builtWell(failures: readonly { readonly component: string; readonly failure: string }[]): Gate {
  const gate = 'built-well';
  if (failures.length === 0) {
    return { gate, outcome: 'met', detail: 'no build failed' };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'build-failed',
    what: 'this build failed',
    object: failures.map(({ component }) => component).join(', '),
    detail: [...new Set(failures.map(({ failure }) => failure))],
    remedy: 'build it again, and `hod stage` it: that clears the failure',
  };
}
