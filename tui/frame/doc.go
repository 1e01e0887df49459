// Package frame is the interface's outermost model: header, the view in the
// middle, pulse and key line, help and the finder of actions. It asks for a
// fresh state a few times a second, outside Update, and hands it to the views.
package frame
