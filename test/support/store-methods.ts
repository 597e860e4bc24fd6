/** The methods of a store that the books are kept with. */
export const bookMethods = ['addToLedger', 'readLedger', 'coarsenLedger', 'readDetails', 'dropDetails', 'addFacts', 'readFacts'] as const
