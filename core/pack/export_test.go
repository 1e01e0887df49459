package pack

// SetKeptPiece sets how much a store copies by one request, and tells how much that was.
func SetKeptPiece(size int64) (was int64) {
	was, keptPiece = keptPiece, size
	return was
}

// IsHead is isHead.
var IsHead = isHead
