// Runs a PostgreSQL server until nobody reads what it says: prints its URL.
import { RealPostgres } from '../test/support/real-postgres';

const server = await RealPostgres.create();
process.stdout.write(`${server.url}\n`);
process.stdin.resume().on('end', () => {
  void server.close();
});
