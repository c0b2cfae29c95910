package stamp

// FixSlower fixes the rate of writing divided by that of reading, so that what is written doesn't depend on the
// machine.
func (j *Job) FixSlower(ratio float64) { j.slower = ratio }
