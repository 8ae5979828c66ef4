package compile_test

import (
	"fmt"

	"kamerad.example/core/compile"
)

// A mistake stands where it was made, with what would be right.
func ExampleLoad() {
	c, problems := compile.Load("wreck.kam", "contract wreck language 1\nshared Dive {\n  depth: int 0..40 = 50\n}\n")
	fmt.Println(c == nil)
	fmt.Print(problems[0].Text(nil))
	// Output:
	// true
	// wreck.kam:3:22: the default of `depth` is 50 [out-of-range]
	//     3 │   depth: int 0..40 = 50
	//       │                      ^^
	//       = from 0 to 40
}
