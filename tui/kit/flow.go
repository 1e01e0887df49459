package kit

import "github.com/charmbracelet/x/ansi"

// Flow sets cells side by side, in as many lines as it takes.
func Flow(cells []string, width int) []string {
	var lines []string
	line := ""
	for _, c := range cells {
		if line != "" && ansi.StringWidth(line)+ansi.StringWidth(c)+3 > width {
			lines, line = append(lines, line), ""
		}
		if line != "" {
			line += "   "
		}
		line += c
	}
	return append(lines, line)
}
