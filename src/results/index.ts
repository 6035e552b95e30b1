import { accessResultSchema, storedLoginsResultSchema } from './access';
import { assembleResultSchema } from './assemble';
import { configCheckResultSchema } from './config';
import { errorResultSchema } from './error';
import { ledgerCopyResultSchema, ledgerResultSchema } from './ledger';
import { promoteResultSchema } from './promote';
import { publishResultSchema } from './publish';
import { sandboxResultSchema } from './sandbox';
import { showResultSchema } from './show';
import { stageResultSchema } from './stage';
import { statusResultSchema } from './status';
import { touchedResultSchema } from './touched';

/** The schema of each document, by the name of its file in docs/schemas. */
export const resultSchemas = {
  'config-check': configCheckResultSchema,
  'access-check': accessResultSchema,
  'stored-logins': storedLoginsResultSchema,
  touched: touchedResultSchema,
  stage: stageResultSchema,
  publish: publishResultSchema,
  assemble: assembleResultSchema,
  promote: promoteResultSchema,
  status: statusResultSchema,
  show: showResultSchema,
  'ledger-verify': ledgerResultSchema,
  'ledger-copy': ledgerCopyResultSchema,
  sandbox: sandboxResultSchema,
  error: errorResultSchema,
} as const;
