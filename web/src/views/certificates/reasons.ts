/** The reasons of RFC 5280 §5.3.1 that are offered, in words. */
export const REASONS: [string, string][] = [
  ['superseded', 'superseded: another has taken its place'],
  ['keyCompromise', 'keyCompromise: somebody else may know its key'],
  ['cessationOfOperation', 'cessationOfOperation: what it was for is no longer run'],
  ['privilegeWithdrawn', 'privilegeWithdrawn: its holder no longer has access'],
  ['affiliationChanged', 'affiliationChanged: its holder has another place in the firm'],
  ['unspecified', 'unspecified'],
]
