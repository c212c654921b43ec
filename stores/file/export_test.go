package file

// OpenNamed is Open as on a system that makes no files without names.
func OpenNamed(root string) (*Store, error) {
	s, err := Open(root)
	if err == nil {
		s.ahead.giveUp()
	}
	return s, err
}
