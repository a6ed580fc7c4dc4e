package query

// About is what a query says of whose records it looks for.
type About struct {
	Named []string // values of the fields person, machine and address
	Texts []string // that are looked for by themselves, in names too
}

// AboutOf returns whose records a query looks for, those that it leaves out too. A query that cannot be read is about nobody.
func AboutOf(text string) (a About) {
	n, err := Parse(text)
	if err != nil {
		return a
	}
	var walk func(Node)
	walk = func(n Node) {
		switch n := n.(type) {
		case All:
			for _, part := range n {
				walk(part)
			}
		case Any:
			for _, part := range n {
				walk(part)
			}
		case No:
			walk(n.Of)
		case *Term:
			for _, v := range n.Values {
				switch n.Field {
				case "person", "machine", "address":
					a.Named = append(a.Named, v.Text)
				case "":
					a.Texts = append(a.Texts, v.Text)
				}
			}
		}
	}
	walk(n)
	return a
}
