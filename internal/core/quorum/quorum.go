// Package quorum counts votes: how many a cluster needs to do its work, and how many more it can lose.
package quorum

// Needed is the majority of that many voters: the fewest votes with which a cluster of voters can decide.
func Needed(voters int) int {
	if voters <= 0 {
		return 0
	}
	return voters/2 + 1
}

// Survives is how many more voters may be lost at the same time with writes going on, when ready of the voters are
// ready. It is -1 when the quorum is lost already.
func Survives(voters, ready int) int {
	if voters == 0 || ready < Needed(voters) {
		return -1
	}
	return ready - Needed(voters)
}

// Tolerates is how many voters a whole cluster of that size can lose. An even number tolerates no more than the odd
// number below it.
func Tolerates(voters int) int { return max(0, voters-Needed(voters)) }
