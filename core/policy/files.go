package policy

import (
	"slices"
	"strings"
)

// FileKind is a kind of files, told by the ending of the path and, when there is an answer, by its type, its first bytes and the name that it gives.
type FileKind struct {
	Key     string
	Name    string
	Endings []string // with their dot, in lower case
}

// FileKinds lists every kind.
var FileKinds = []FileKind{
	{"archives", "archives", strings.Fields(".zip .7z .rar .tar .gz .tgz .bz2 .xz .zst .cab")},
	{"programs", "programs", strings.Fields(".exe .msi .dll .bat .cmd .com .scr .ps1 .vbs .jar .apk .deb .rpm .dmg .pkg .appimage .sh")},
	{"documents", "documents", strings.Fields(".pdf .doc .docx .odt .rtf .xls .xlsx .ods .csv .ppt .pptx .odp .epub")},
	{"macros", "documents with macros", strings.Fields(".docm .dotm .xlsm .xlsb .xltm .pptm .potm")},
	{"pictures", "pictures", strings.Fields(".jpg .jpeg .png .gif .webp .avif .bmp .tif .tiff .svg .heic")},
	{"sound", "sound", strings.Fields(".mp3 .ogg .oga .opus .wav .flac .m4a .aac")},
	{"film", "film", strings.Fields(".mp4 .m4v .webm .mkv .avi .mov .mpg .mpeg .m3u8 .ts .flv")},
	{"disks", "images of disks", strings.Fields(".iso .img .vhd .vhdx .vmdk .qcow2")},
}

// endings returns the endings that a value of a [File] condition stands for; nil where there is no such kind.
func endings(value string) []string {
	if strings.HasPrefix(value, ".") {
		return []string{strings.ToLower(value)}
	}
	for _, kind := range FileKinds {
		if kind.Key == value {
			return kind.Endings
		}
	}
	return nil
}

// isKind reports whether a value of a [File] condition is a kind, and no ending.
func isKind(value string) bool {
	return slices.ContainsFunc(FileKinds, func(k FileKind) bool { return k.Key == value })
}

// file evaluates a [File] condition at the full sight.
func (w *Work) file(n *node) answer {
	switch {
	case hasEnding(w.url.Path(), n.texts):
		return yes
	case len(n.kinds) == 0:
		return no
	case w.reply == nil:
		return unclear
	case w.answered(n) != "":
		return yes
	}
	return no
}

// answered returns the name of the kind that the answer is of, of those that a [File] condition asks for; "" for none.
func (w *Work) answered(n *node) string {
	if w.reply == nil {
		return ""
	}
	for _, kind := range FileKinds {
		if slices.Contains(n.kinds, kind.Key) && (slices.Contains(w.reply.Kinds, kind.Key) || hasEnding("/-"+w.reply.Name, kind.Endings)) {
			return kind.Name
		}
	}
	return ""
}

// hasEnding reports whether the last segment of a path ends so, letter case aside.
func hasEnding(path string, endings []string) bool {
	dot := strings.LastIndexByte(path, '.')
	if dot <= 0 || path[dot-1] == '/' || strings.IndexByte(path[dot:], '/') >= 0 {
		return false // nothing stands before the dot, or it is not in the last segment
	}
	for _, ending := range endings {
		if strings.LastIndexByte(ending, '.') == 0 {
			if strings.EqualFold(path[dot:], ending) {
				return true
			}
			continue
		}
		// An ending of several, as .tar.gz.
		last := path[strings.LastIndexByte(path, '/')+1:]
		if len(last) > len(ending) && strings.EqualFold(last[len(last)-len(ending):], ending) {
			return true
		}
	}
	return false
}
