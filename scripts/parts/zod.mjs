// Zod compiles code for each schema when it is first used. A run parses few documents of each form: that costs more than it saves.
import { config } from '../../node_modules/zod/index.js';

config({ jitless: true });
export * from '../../node_modules/zod/index.js';
