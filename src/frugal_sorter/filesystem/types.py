"""From a name to its suffix, and from a suffix to its type group."""

from __future__ import annotations

from collections.abc import Mapping

# Packed tar files carry two suffixes that only mean something together.
_PACKED = frozenset({"gz", "bz2", "xz", "zst", "lz", "lzma", "z", "br", "lz4"})

_GROUPS = {
    "image": "jpg jpeg jpe jfif png gif bmp tif tiff webp heic heif avif svg psd xcf ico raw cr2 cr3 nef arw "
    "dng orf rw2 raf pef jxl jp2 eps ai",
    "video": "mp4 m4v mov avi mkv webm wmv mpg mpeg flv 3gp mts m2ts ts ogv vob",
    "audio": "mp3 m4a aac wav flac ogg oga opus wma aif aiff mid midi amr",
    "text": "txt md rst rtf tex nfo text",
    "document": "pdf doc docx docm dot dotx odt ott pages ps xps djvu wpd",
    "spreadsheet": "xls xlsx xlsm xlsb ods ots numbers csv tsv",
    "presentation": "ppt pptx pptm pps ppsx odp otp key",
    "ebook": "epub mobi azw azw3 fb2 cbz cbr",
    "archive": "zip 7z rar tar gz tgz bz2 tbz tbz2 xz txz zst lz lzma cab arj "
    "tar.gz tar.bz2 tar.xz tar.zst tar.lz tar.lzma tar.z tar.br tar.lz4",
    "disk-image": "iso img dmg vhd vhdx vmdk vdi qcow2 wim",
    "installer": "exe msi msix appx deb rpm pkg apk appimage flatpak snap",
    "program": "com bat cmd ps1 sh bash zsh vbs jar app dll so dylib sys",
    "font": "ttf otf woff woff2 ttc fon pfb",
    "code": "py js jsx tsx c h cpp cc hpp cs java go rs rb php pl swift kt lua r m sql ipynb",
    "web": "html htm xhtml mhtml css scss url webloc",
    "data": "json xml yaml yml toml parquet geojson gpx kml avro ndjson jsonl",
    "model": "stl obj 3mf ply step stp iges igs gltf glb fbx dae blend dwg dxf gcode skp",
    "mail": "eml msg mbox pst ost emlx",
    "calendar": "ics ical ifb",
    "contact": "vcf vcard ldif",
    "log": "log evtx etl trace",
    "temporary": "tmp temp swp swo cache dmp chk",
    "partial": "part crdownload partial download filepart opdownload",
    "backup": "bak old orig bkp backup sav",
    "database": "db sqlite sqlite3 mdb accdb dbf frm ldb",
    "config": "ini cfg conf config reg plist properties env desktop",
}

OTHER = "other"

TYPE_OF_SUFFIX: Mapping[str, str] = {
    suffix: group for group, suffixes in _GROUPS.items() for suffix in suffixes.split()
}
TYPES: tuple[str, ...] = (*_GROUPS, OTHER)
# Suffixes as they are mostly written, without those that may be half of a double one.
PLAIN_SUFFIXES = {
    written: suffix
    for suffix in TYPE_OF_SUFFIX
    if suffix not in _PACKED and "." not in suffix
    for written in (suffix, suffix.upper())
}


def suffix_of(name: str) -> str:
    """Return the suffix of a name, in lower case, without its dot; empty where it has none.

    A leading dot starts no suffix, nor does a dot before white space ("Invoice no. 12"). Packed
    tar files have a double suffix: "tar.gz".
    """
    head, dot, last = name.rpartition(".")
    known = PLAIN_SUFFIXES.get(last)
    if known is not None and head and head[0] != ".":
        return known  # nearly every name ends here; this runs once for each file of a tree
    if not dot or not last or not head.strip("."):
        return ""
    if not (last.isascii() and last.isalnum()) and any(letter.isspace() for letter in last):
        return ""
    # From here on names are rare: capitals, double suffixes, suffixes that no type knows.
    last = last.lower()
    if last in _PACKED and head[-4:].lower() == ".tar" and len(head) > 4:
        return f"tar.{last}"
    return last


def may_be_double(end: str) -> bool:
    """Return True if the letters after the last dot may be half of a double suffix."""
    return end.lower() in _PACKED


def stem_of(name: str) -> str:
    """Return the name without its suffix and the dot before it."""
    suffix = suffix_of(name)
    # Lower-casing may change a length (İ), so what to cut is found by counting dots.
    for _ in range(suffix.count(".") + 1 if suffix else 0):
        name = name.rpartition(".")[0]
    return name
