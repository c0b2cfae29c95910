package view

// Setting is a setting in force.
type Setting struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	From  string `json:"from,omitempty"` // the file or variable that sets it; empty: it is the default
}

// SettingsSentence says where lasting settings are.
func SettingsSentence(file string) string { return "Lasting settings are in " + file + "." }

// Settings shows what is in force.
func (v *Screen) Settings(list []Setting, file string) {
	a := &answer{style: strong, sentence: SettingsSentence(file)}
	for _, s := range list {
		from := "by default"
		if s.From != "" {
			from = "set in " + s.From
		}
		a.add(s.Name, "%s", oneLine(s.Value)+", "+oneLine(from))
	}
	a.print(v.Out, v.width)
}
