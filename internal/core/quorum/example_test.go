package quorum_test

import (
	"fmt"

	"lanternfield/internal/core/quorum"
)

func ExampleSurvives() {
	for voters := 3; voters <= 5; voters++ {
		fmt.Printf("%d voters, all healthy: %d are needed, %d may be lost\n", voters, quorum.Needed(voters), quorum.Survives(voters, voters))
	}
	fmt.Println(quorum.Survives(3, 1))
	// Output:
	// 3 voters, all healthy: 2 are needed, 1 may be lost
	// 4 voters, all healthy: 3 are needed, 1 may be lost
	// 5 voters, all healthy: 3 are needed, 2 may be lost
	// -1
}
