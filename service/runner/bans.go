package runner

// Remove takes the seat of a player, if it has one, and tells the client why. The player is what it goes by: its
// identity, or its name when nobody has proven that. Everybody may call it.
func (r *Runner) Remove(player, reason string) {
	r.Post(func() {
		for n, s := range r.seats {
			if s.row.Player == player || s.row.Player == "" && s.row.Name == player && !s.test {
				r.Leave(n, reason)
			}
		}
	})
}
