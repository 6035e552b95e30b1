import { accessResultSchema, storedLoginsResultSchema } from './access';
import { adoptResultSchema } from './adopt';
import { announceResultSchema } from './announce';
import { assembleResultSchema } from './assemble';
import { boardResultSchema, boardsResultSchema } from './board';
import { carryResultSchema } from './carry';
import { compareResultSchema } from './compare';
import { configCheckResultSchema, configCompareResultSchema, configShowResultSchema } from './config';
import { errorResultSchema } from './error';
import { identifyResultSchema } from './identify';
import { initResultSchema } from './init';
import { insideDifferenceSchema, insideResultSchema } from './inside';
import {
  ledgerAcceptResultSchema,
  ledgerCompactResultSchema,
  ledgerCopyResultSchema,
  ledgerResultSchema,
} from './ledger';
import { packResultSchema } from './pack';
import { productsSchema } from './products';
import { pointResultSchema } from './point';
import { promoteResultSchema } from './promote';
import { proveResultSchema } from './prove';
import { publishResultSchema } from './publish';
import { restoreResultSchema } from './restore';
import { resultResultSchema, rulesResultSchema, signOffResultSchema } from './record';
import { rollbackResultSchema } from './rollback';
import { sandboxResultSchema } from './sandbox';
import { showResultSchema } from './show';
import { stageResultSchema } from './stage';
import { statusResultSchema } from './status';
import { rebuildResultSchema } from './rebuild';
import { repositoriesResultSchema, tagsResultSchema } from './tags';
import { tidyResultSchema } from './tidy';
import { tidyHereResultSchema } from './tidy-here';
import { timelineResultSchema } from './timeline';
import { touchedResultSchema } from './touched';
import { unpackResultSchema } from './unpack';

/** The schema of each document, by the name of its file in docs/schemas. */
export const resultSchemas = {
  init: initResultSchema,
  'config-check': configCheckResultSchema,
  'config-show': configShowResultSchema,
  'config-compare': configCompareResultSchema,
  identify: identifyResultSchema,
  'access-check': accessResultSchema,
  'stored-logins': storedLoginsResultSchema,
  touched: touchedResultSchema,
  stage: stageResultSchema,
  publish: publishResultSchema,
  adopt: adoptResultSchema,
  assemble: assembleResultSchema,
  carry: carryResultSchema,
  pack: packResultSchema,
  unpack: unpackResultSchema,
  promote: promoteResultSchema,
  rollback: rollbackResultSchema,
  restore: restoreResultSchema,
  'record-result': resultResultSchema,
  'sign-off': signOffResultSchema,
  'record-rules': rulesResultSchema,
  status: statusResultSchema,
  timeline: timelineResultSchema,
  compare: compareResultSchema,
  board: boardResultSchema,
  'board-products': boardsResultSchema,
  prove: proveResultSchema,
  tidy: tidyResultSchema,
  'tidy-here': tidyHereResultSchema,
  point: pointResultSchema,
  announce: announceResultSchema,
  show: showResultSchema,
  inside: insideResultSchema,
  'inside-difference': insideDifferenceSchema,
  tags: tagsResultSchema,
  repositories: repositoriesResultSchema,
  'ledger-verify': ledgerResultSchema,
  'ledger-accept': ledgerAcceptResultSchema,
  'ledger-compact': ledgerCompactResultSchema,
  'ledger-copy': ledgerCopyResultSchema,
  'ledger-rebuild': rebuildResultSchema,
  'publish-products': productsSchema(publishResultSchema),
  'promote-products': productsSchema(promoteResultSchema),
  'status-products': productsSchema(statusResultSchema),
  'prove-products': productsSchema(proveResultSchema),
  'tidy-products': productsSchema(tidyResultSchema),
  'touched-products': productsSchema(touchedResultSchema),
  'rollback-products': productsSchema(rollbackResultSchema),
  'compare-products': productsSchema(compareResultSchema),
  'timeline-products': productsSchema(timelineResultSchema),
  'record-result-products': productsSchema(resultResultSchema),
  'sign-off-products': productsSchema(signOffResultSchema),
  sandbox: sandboxResultSchema,
  error: errorResultSchema,
} as const;
