// Fills the ledger file that is named with so many publications, and prints the references by which they are pulled.
import { formatRepository } from '../src/core/oci/reference';
import { openSqliteLedger } from '../src/ledger/engines/sqlite';
import { fill, publication } from './ledger-content';

const [file = '', count = '0'] = process.argv.slice(2);
const product = 'skerry-line';
const ledger = await openSqliteLedger({ file, product, access: 'write', waiting: () => undefined });
await fill(ledger, product, Number(count));
await ledger.close();
const repository = formatRepository({ registry: 'dev.skerry.test', name: 'skerry/timetable' });
const references = Array.from({ length: Number(count) }, (_, at) =>
  publication(at).components.map(({ digest }) => `${repository}@${digest}`),
);
process.stdout.write(JSON.stringify(references.flat()));
