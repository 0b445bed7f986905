"""Pages for people: self-contained, of whatever was found."""
