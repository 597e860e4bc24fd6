/** Stands for the endpoint of a provider's calls that no endpoint covers, and for the provider of calls to no known one. */
export const unmatched = '(unmatched)'
