import { rebuildModel } from '../models/rebuild';
import { testModel } from '../support/models';

testModel(rebuildModel, 60);
