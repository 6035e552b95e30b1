import { adoptionModel } from './adoption';
import { referrersModel } from './referrers';
import { environmentsModel, strangersModel } from './environments';
import type { Model } from './model';
import { orderModel, versionsModel } from './order';
import { rebuildModel } from './rebuild';
import { tidyModel } from './tidy';
import { twinsModel } from './twins';

/** Every model. What waits for an environment is compared in the worlds of `environments`. */
export const models: readonly (() => Model)[] = [
  orderModel,
  versionsModel,
  environmentsModel,
  strangersModel,
  twinsModel,
  rebuildModel,
  adoptionModel,
  referrersModel,
  tidyModel,
];
