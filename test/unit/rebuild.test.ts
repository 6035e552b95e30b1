import { adoptionModel } from '../models/adoption';
import { rebuildModel } from '../models/rebuild';
import { testModel } from '../support/models';

testModel(rebuildModel, 10);
testModel(adoptionModel, 10);
