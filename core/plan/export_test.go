package plan

// Magic and AppendEffect let tests forge plans.
const Magic = magic

// AppendEffect writes an effect as a plan has it.
func AppendEffect(b []byte, e *Effect) []byte { return e.append(b) }
