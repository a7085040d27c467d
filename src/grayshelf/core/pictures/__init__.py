"""Making frames visible: parts of a picture at any size, its stretch, what lies along a line, two held against each other."""
