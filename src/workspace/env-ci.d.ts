declare module 'env-ci' {
  /** What the variables of a CI say; without `service` where none is recognised. */
  export default function envCi(options: { env: NodeJS.ProcessEnv; cwd: string }): unknown;
}
