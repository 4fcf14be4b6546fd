/** What is decommissioned, by its kind. */
export const KINDS: Record<string, string> = {
  clients: 'client',
  connections: 'connection',
  deployments: 'application in an environment',
  workloads: 'workload',
}
/** How something is revoked. */
export const HOW: Record<string, string> = {
  house: 'by the house authority',
  protocol: 'by protocol',
  manually: 'manually',
  kept: 'kept',
}
