/** The version of the package. */
export const version = '0.1.0'
