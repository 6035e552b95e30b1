import { SaxesParser } from 'saxes';
import { messageOf } from '../errors';
import { readTime, type Timestamp } from '../time';
import type { ReportReading, TestCounts } from './report';

/**
 * Test runners write no deeper document.
 * @limit nesting of a test report | levels | `report-unusable`
 */
const deepest = 64;

/**
 * Reads a JUnit report: every `testcase` counts once, whatever the sums in the report say. Entities of its own are refused, and so is a
 * DTD that declares some: nothing in a report grows.
 */
export function readJUnit(text: string): ReportReading {
  const parser = strictParser();
  const counts = { passed: 0, failed: 0, skipped: 0 };
  const times: Timestamp[] = [];
  const names: string[] = [];
  let depth = 0;
  let root: string | undefined;
  /** Of the test case that is open; undefined outside of one. */
  let outcome: keyof TestCounts | undefined;
  parser.on('opentag', ({ name, attributes }) => {
    root ??= name;
    depth += 1;
    if (depth > deepest) {
      throw new Error(`it is nested deeper than ${deepest} levels`);
    }
    if (name === 'testcase') {
      outcome = 'passed';
    } else if (name === 'failure' || name === 'error') {
      // A suite may fail outside of its tests.
      counts.failed += outcome === undefined ? 1 : 0;
      outcome = outcome && 'failed';
    } else if (name === 'skipped' && outcome === 'passed') {
      outcome = 'skipped';
    } else if (name === 'testsuite') {
      const time = readTime(attributes['timestamp'] ?? '');
      times.push(...(time === undefined ? [] : [time]));
      names.push(...(attributes['name'] === undefined ? [] : [attributes['name']]));
    }
  });
  parser.on('closetag', ({ name }) => {
    depth -= 1;
    if (name === 'testcase') {
      counts[outcome ?? 'failed'] += 1;
      outcome = undefined;
    }
  });
  try {
    parser.write(text).close();
  } catch (error) {
    return { problem: messageOf(error) };
  }
  if (root !== 'testsuites' && root !== 'testsuite') {
    return { problem: `it begins with <${root ?? ''}>; a JUnit report begins with <testsuites> or <testsuite>` };
  }
  const [at] = times.sort();
  return { report: { format: 'junit', tool: names[0], at, findings: undefined, tests: counts } };
}

/** A parser that stops at the first error, and at a document type: only that could declare entities. */
function strictParser(): SaxesParser {
  const parser = new SaxesParser();
  parser.on('error', (error) => {
    throw error;
  });
  parser.on('doctype', () => {
    throw new Error('it declares a document type, which no report needs');
  });
  return parser;
}
