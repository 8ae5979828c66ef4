package session

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Walls that stay as they are, as constants and settings, are found by an index; those of a property are gone over. Both
// come to the same, also where there are several lists.
func TestConstantWallsComeToWhatWallsOfAPropertyDo(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	var declarations strings.Builder
	declarations.WriteString("type Place = vec2 -99..99 step 0.01\ntype Wall { a: Place, b: Place }\n" +
		"type Post { middle: Place, radius: real 0..9 step 0.01 }\n")
	for _, list := range []string{"const walls", "const others", "setting given"} {
		var walls []string
		for range 60 {
			x, y := r.IntN(100)-50, r.IntN(100)-50
			walls = append(walls, fmt.Sprintf(
				"Wall(a = vec(%d, %d), b = vec(%d, %d))", x, y, x+r.IntN(17)-8, y+r.IntN(17)-8,
			))
		}
		fmt.Fprintf(&declarations, "%s: list<Wall> max 60 = [%s]\n", list, strings.Join(walls, ", "))
	}
	var posts []string
	for range 40 {
		posts = append(posts, fmt.Sprintf(
			"Post(middle = vec(%d, %d), radius = %d)", r.IntN(100)-50, r.IntN(100)-50, r.IntN(5),
		))
	}
	fmt.Fprintf(&declarations, "const posts: list<Post> max 40 = [%s]\n", strings.Join(posts, ", "))
	declarations.WriteString("shared Yard { walls: list<Wall> max 60; posts: list<Post> max 40 }")

	var body strings.Builder
	body.WriteString("var wrong = 0; var met = 0\n")
	for _, list := range []string{"walls", "others", "given", "posts"} {
		own := "Yard.walls"
		if list == "posts" {
			own = "Yard.posts"
		}
		fmt.Fprintf(&body, "%s = %s\nfor i in 1..60 {\n", own, list)
		body.WriteString("let p = vec(roll(-60..60), roll(-60..60)); let q = p + vec(roll(-9..9), roll(-9..9))\n")
		questions := []string{"along_walls(p, q, LIST, 0.5)", "free(p, 2, LIST)", "nearest(p, LIST)"}
		if list != "posts" {
			questions = append(questions, "crosses(line(p, q), LIST)")
			fmt.Fprintf(&body, "if crosses(line(p, q), %s) { met += 1 }\n", list)
		}
		for _, q := range questions {
			fmt.Fprintf(
				&body, "if %s != %s { wrong += 1 }\n", strings.ReplaceAll(q, "LIST", list),
				strings.ReplaceAll(q, "LIST", own),
			)
		}
		body.WriteString("}\n")
	}
	body.WriteString("reply if met > 5 then wrong else 999")
	assert.Equal(t, "0", reply(t, declarations.String(), body.String(), "int 0..999"))
}
