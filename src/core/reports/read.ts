import { readJsonValue } from '../json';
import { readCycloneDx, readSarif } from './findings';
import { readJUnit } from './junit';
import type { ReportReading } from './report';
import * as z from 'zod';

const known = z.looseObject({ bomFormat: z.unknown().optional(), runs: z.unknown().optional() });

/** Reads a report of any known format, by what is in it; or says why it cannot be read. */
export function readReport(bytes: Uint8Array): ReportReading {
  const first = bytes.find((byte) => byte > 0x20 && ![0xef, 0xbb, 0xbf].includes(byte));
  if (first === 0x3c) {
    try {
      return readJUnit(new TextDecoder('utf-8', { fatal: true }).decode(bytes));
    } catch {
      return { problem: 'it is not UTF-8' };
    }
  }
  const { value, problem } = readJsonValue(bytes);
  if (problem !== undefined) {
    return { problem };
  }
  const { data } = known.safeParse(value);
  if (data?.bomFormat !== undefined) {
    return readCycloneDx(value);
  }
  return data?.runs !== undefined
    ? readSarif(value)
    : { problem: 'it is neither SARIF (`runs`), CycloneDX (`bomFormat`) nor JUnit (XML)' };
}
