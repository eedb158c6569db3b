package people

// FewGone is how many may always be gone at once: in a small company a share of its people is nobody.
const FewGone = 5

// TooManyGone says whether so many of those who are known are gone at once that somebody has to agree: a wrong filter,
// a server that shows half of its entries, or a slip in an assignment must not put out half of a company.
// Nor must anything put out all of them, however few they are.
func TooManyGone(gone, known, percent int) bool {
	return gone > FewGone && gone*100 > known*percent || gone > 1 && gone >= known
}
