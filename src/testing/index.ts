export { type ContractCase, storeContract } from './store-contract.js'
