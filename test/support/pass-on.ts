import { request as forward, type IncomingMessage, type ServerResponse } from 'node:http';

/** Passes a request on to a server on loopback, and its answer back. */
export function passOn(port: number, request: IncomingMessage, response: ServerResponse): void {
  const { method, headers, url } = request;
  const onward = forward({ port, method, headers, path: url }, (answer) => {
    response.writeHead(answer.statusCode ?? 500, answer.headers);
    answer.pipe(response);
  });
  request.pipe(onward);
}
