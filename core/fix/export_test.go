package fix

// HoldLog has so many bytes of each part of a log held in memory, and returns how many they were.
func HoldLog(bytes int) (was int) {
	was, sectionHeld = sectionHeld, bytes
	return was
}
