package text

// Either gives yes where which holds, and no otherwise. Both are worked out before.
func Either[T any](which bool, yes, no T) T {
	if which {
		return yes
	}
	return no
}
