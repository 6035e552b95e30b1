import * as z from 'zod';

// Zod compiles code for each schema when it is first used. A run parses few documents of each form: that costs more than it saves.
z.config({ jitless: true });
