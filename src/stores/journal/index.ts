export { type FileJournalOptions, fileJournal } from './file-journal.js'
