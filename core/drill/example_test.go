package drill_test

import (
	"context"
	"fmt"

	"kamerad.example/core/drill"
)

// A drill plays a session on a contract; what is not as the drill expects is told with the line that expects it.
func ExampleDrill_Run() {
	files := map[string]string{"wreck.kam": `contract wreck language 1
seats 4
roles diver
shared Lamp {
  lit: bool = false
  request light() from diver
  limit 5 per second
  { lit = true }
}
`}
	drills, problems := drill.Load("lamp.drill", `drill "a diver lights the lamp"
use "wreck.kam" seed 1
clients ana, bo
ana asks Lamp.light() -> accepted
settle
expect bo sees Lamp.lit == true
`, func(name string) (string, error) { return files[name], nil })
	if len(problems) > 0 {
		fmt.Print(problems[0].Text(nil))
		return
	}
	result, err := drills[0].Run(context.Background(), drill.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(result.Drill, result.Passed)
	// Output: a diver lights the lamp true
}
