import { request as forward, type IncomingHttpHeaders, type IncomingMessage, type ServerResponse } from 'node:http';

/** Passes a request on to a server on loopback, and its answer back, with other headers where they are changed. */
export function passOn(
  port: number,
  request: IncomingMessage,
  response: ServerResponse,
  change = (headers: IncomingHttpHeaders): IncomingHttpHeaders => headers,
): void {
  const { method, headers, url } = request;
  const onward = forward({ port, method, headers, path: url }, (answer) => {
    response.writeHead(answer.statusCode ?? 500, change(answer.headers));
    answer.pipe(response);
  });
  request.pipe(onward);
}
