import { quickenTimers } from './quick-timers.js'
import { isLong } from './scale.js'

// Imported first by processes of tests that are not to take seconds.
if (!isLong) quickenTimers()
