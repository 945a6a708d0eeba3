package change

// Fold puts two changes of one thing, the earlier first, into what they come to. none
// tells that the thing is as it was: it came and went, or was put back.
func Fold(what What, fields []Field, next What, more []Field) (folded What, all []Field, none bool) {
	all = foldFields(fields, more)
	wasThere, isThere := what == Changed || what == Gone, next != Gone
	switch {
	case wasThere && isThere:
		return Changed, all, len(all) == 0
	case wasThere:
		return Gone, all, false // it may come back as it was before the first change
	case isThere:
		return what, all, false
	}
	return what, nil, true // it came and went
}

// foldFields goes from the first from to the last to, and drops what is as it was.
func foldFields(fields, more []Field) []Field {
	var out []Field
	at := map[string]int{}
	for _, f := range append(fields[:len(fields):len(fields)], more...) {
		i, known := at[f.Name]
		if !known {
			at[f.Name] = len(out)
			out = append(out, f)
			continue
		}
		was := out[i]
		if isList(was) || isList(f) {
			out[i] = foldLists(was, f)
		} else {
			out[i].To = f.To
		}
	}
	kept := out[:0]
	for _, f := range out {
		if isList(f) || f.From != f.To {
			kept = append(kept, f)
		}
	}
	if len(kept) == 0 {
		return nil
	}
	return kept
}

func isList(f Field) bool { return len(f.Added) > 0 || len(f.Removed) > 0 }

// foldLists: what was added and removed again is as it was, and so the other way round.
func foldLists(was, f Field) Field {
	return Field{
		Name:    was.Name,
		Added:   append(without(was.Added, f.Removed), without(f.Added, was.Removed)...),
		Removed: append(without(was.Removed, f.Added), without(f.Removed, was.Added)...),
	}
}
