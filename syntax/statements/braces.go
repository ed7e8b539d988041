package statements

import "fmt"

// braces reads statements of which some hold others in braces.
func (m Manner) braces(data []byte) ([]*Statement, []Bad) {
	s := &scanner{m: &m, data: data, line: 1}
	root := &Statement{}
	stack := []*Statement{root}
	deep := 0 // braces that are too deep to be followed
	var words []Word
	flush := func() *Statement {
		if len(words) == 0 {
			return nil
		}
		st := made(words)
		words = nil
		in := stack[len(stack)-1]
		in.Nested = append(in.Nested, st)
		return st
	}
	for s.at < len(s.data) {
		w, ok := s.next()
		if !ok {
			if s.endLine(); m.End == "" {
				flush()
			}
			continue
		}
		switch {
		case w.Quoted:
			words = append(words, w)
		case w.Text == "{":
			st := flush()
			if st == nil {
				s.bad = append(s.bad, Bad{w.Line, "a brace opens, and nothing says what"})
				st = &Statement{Place: w.Place}
				stack[len(stack)-1].Nested = append(stack[len(stack)-1].Nested, st)
			}
			if len(stack) > MaxDepth {
				if deep == 0 {
					s.bad = append(s.bad, Bad{w.Line, fmt.Sprintf("statements nest more than %d deep", MaxDepth)})
				}
				deep++
				continue
			}
			stack = append(stack, st)
		case w.Text == "}":
			flush()
			switch {
			case deep > 0:
				deep--
			case len(stack) == 1:
				s.bad = append(s.bad, Bad{w.Line, "a closing brace has no opening one"})
			default:
				stack = stack[:len(stack)-1]
			}
		case m.End != "" && w.Text == m.End:
			flush()
		default:
			words = append(words, w)
		}
	}
	flush()
	if len(stack) > 1 {
		s.bad = append(s.bad, Bad{stack[len(stack)-1].Line, "a brace that opens here is not closed"})
	}
	return root.Nested, s.bad
}
