process.env['HOD_TESTS'] = 'fixed';
