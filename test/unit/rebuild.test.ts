import { adoptionModel } from '../models/adoption';
import { rebuildModel } from '../models/rebuild';
import { testModel } from '../support/models';

testModel(rebuildModel, 10, [{ seed: 1_622_656_274 }]);
testModel(adoptionModel, 10);
