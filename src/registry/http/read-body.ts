import { atMost } from '../../core/bytes';
import type { RegistryResponse } from './exchange';

/** The whole body of an answer; undefined, and the connection closed, where it is longer than `limit` bytes. */
export function readBody({ body }: Pick<RegistryResponse, 'body'>, limit: number): Promise<Uint8Array | undefined> {
  return atMost(limit, body);
}
