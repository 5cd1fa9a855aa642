"""The demo machine."""

from __future__ import annotations

import io
import math
import random
import struct
import unicodedata
import zipfile
from datetime import datetime, timedelta
from importlib import resources

from frugal_sorter.errors import UsageError
from frugal_sorter.platforms import disk, system
from frugal_sorter.platforms.slashed import Path

DEFAULT_SEED = 7
_GLAZES = ("Celadon", "Tenmoku", "Shino", "Copper Red", "Chun Blue", "Ash", "Rutile")
_SUPPLIERS = ("Harbour Clay", "Northlight Kilns", "Saltmarsh Minerals", "Quay Packaging")
_FORMS = ("mug", "bowl", "vase", "tea pot", "oil jar", "plate")


class _Layout:
    """Writes files below a folder and remembers the age of each."""

    def __init__(self, root: Path, now: datetime, seed: int) -> None:
        self.root = root
        self.now = now
        self.chance = random.Random(seed)
        self._folders: dict[Path, float] = {}

    def day(self, age_days: float) -> datetime:
        return self.now - timedelta(days=age_days)

    def free_day(self, age_days: float, taken: set[tuple[int, int]], number: int) -> float:
        """Return an age in days, moved back by whole days until its day is free for a number such as that of a kiln.

        Days are counted rather than named, so that the same ones are free at any time of any day.
        """
        while (int(age_days), number) in taken:
            age_days += 1
        taken.add((int(age_days), number))
        return age_days

    def months_back(self, months: int, day: int) -> datetime:
        """Return noon on a day (1 to 28) of a month some months before this one."""
        month = self.now.year * 12 + self.now.month - 1 - months
        return datetime(month // 12, month % 12 + 1, day, 12)

    def age_of(self, day: datetime) -> float:
        return (self.now - day) / timedelta(days=1)

    def age(self, first: float, last: float) -> float:
        """Return an age in days between two, never just on a whole day."""
        return round(self.chance.uniform(first, last), 3)

    def put(self, path: str, body: bytes, age_days: float) -> Path:
        """Write a file that was last written some days ago."""
        target = self.root / path
        self.folder(str(Path(path).parent), age_days)
        target.write_bytes(body)
        stamp = self.day(age_days).timestamp()
        disk.utime(target, (stamp, stamp))
        return target

    def folder(self, path: str, age_days: float) -> None:
        """Make a folder; it is as old as the newest of what is in it."""
        target = self.root / path
        target.mkdir(parents=True, exist_ok=True)
        for one in (target, *target.parents):
            self._folders[one] = min(age_days, self._folders.get(one, age_days))
            if one == self.root:
                break

    def settle_folders(self) -> None:
        """Set the times of the folders, which each file put into them has reset."""
        for folder, age_days in self._folders.items():
            stamp = self.day(age_days).timestamp()
            disk.utime(folder, (stamp, stamp))


def lay_out(folder: Path, now: datetime, seed: int = DEFAULT_SEED) -> int:
    """Write the front-desk computer of Tidewater Pottery into an empty folder.

    Args:
        folder: is made if it is missing.
        now: the moment that all ages are counted from.
        seed: the same seed gives the same files.

    Returns:
        how many files there are.

    Raises:
        UsageError: the folder is not empty or cannot be written to.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if any(folder.iterdir()):
            raise UsageError(f"{folder}: this folder is not empty", "name a new one; nothing was written")
    except OSError as error:
        raise UsageError(f"{folder}: {(error.strerror or 'cannot be used').lower()}", "name another folder") from error
    layout = _Layout(folder, now, seed)
    _intake(layout)
    _odd_names(layout)
    _duplicates(layout)
    _sorted_folders(layout)
    _scratch(layout)
    for name in ("rules.toml", "ageing.toml"):
        layout.put(name, resources.files("frugal_sorter.demo").joinpath(name).read_bytes(), 3)
    layout.settle_folders()
    return sum(len(files) for _, _, files in disk.walk(folder))


def _intake(layout: _Layout) -> None:
    """The intake folder: everything that came in, as it came."""
    chance = layout.chance
    fired_on: set[tuple[int, int]] = set()
    for number in range(26):
        age = layout.age(0.2, 150)
        kiln = chance.choice((1, 2, 3))
        age = layout.free_day(age, fired_on, kiln)
        # A firing ends, and its log is written, on its own day or in the night after it.
        fired = layout.day(int(age) + 1)
        suffix = "LOG" if number % 9 == 0 else "log"
        layout.put(f"Intake/KILN {kiln} {fired:%Y-%m-%d}.{suffix}", kiln_log(chance, fired, kiln), age)
    for number in range(34):
        age = layout.age(0.1, 400)
        name = f"IMG_{2100 + number}.{chance.choice(('jpg', 'jpg', 'JPG', 'jpeg'))}"
        layout.put(f"Intake/{name}", photo(chance, layout.day(age + 0.2)), age)
    for number in range(9):
        age = layout.age(1, 200)
        layout.put(f"Intake/scan{number:03}.{chance.choice(('tif', 'TIFF'))}", scan(chance, layout.day(age)), age)
    for number in range(14):
        age = layout.age(2, 380)
        supplier = chance.choice(_SUPPLIERS)
        lines = [supplier, "Supplier invoice", f"No. {5200 + number}", f"Date {layout.day(age):%Y-%m-%d}"]
        layout.put(f"Intake/Invoice {5200 + number} {supplier}.pdf", document(lines), age)
    for form in _FORMS:
        age = layout.age(3, 300)
        layout.put(f"Intake/{form} mould v{chance.randrange(1, 4)}.stl", model(chance), age)
    layout.put("Intake/Foot ring.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", layout.age(20, 90))
    for glaze in _GLAZES:
        layout.put(f"Intake/{glaze} recipe.csv", recipe_table(chance, glaze), layout.age(1, 250))
    for title in ("Throwing class", "Kiln opening", "Glaze workshop"):
        age = layout.age(1, 60)
        layout.put(f"Intake/{title}.ics", booking(layout.day(age - 14), title), age)
    for name in ("Maren Holt", "Søren Lind"):
        layout.put(f"Intake/{name}.vcf", contact(name), layout.age(5, 200))
    installers = (
        ("label-printer-setup.exe", b"MZ"),
        ("kiln-link.msi", b"\xd0\xcf\x11\xe0"),
        ("viewer_2.1_amd64.deb", b"!<arch>\n"),
    )
    for name, head in installers:
        layout.put(f"Intake/{name}", noise(chance, chance.randrange(60_000, 300_000), head), layout.age(35, 300))
    for name in ("glaze-tests", "website pictures", "market stall"):
        members = {f"{name}/{n}.csv": recipe_table(chance, name) for n in range(3)}
        layout.put(f"Intake/{name}.zip", archive(members), layout.age(10, 120))
    layout.put("Intake/catalogue.pdf.part", noise(chance, 40_000, b"%PDF-1.4\n"), 0.01)
    layout.put("Intake/firing video.mp4.crdownload", noise(chance, 90_000), layout.age(2, 5))
    for number in range(8):
        age = layout.age(1, 30)
        name = f"Intake/From phone/IMG_{2100 + number * 3}.jpg"
        layout.put(name, photo(chance, layout.day(age)), age)


def _odd_names(layout: _Layout) -> None:
    """Names and kinds of files that tools trip over."""
    chance = layout.chance
    text = b"Ask Maren about the blue glaze.\n"
    accented = "Émail céladon.txt"
    for name in (
        unicodedata.normalize("NFC", accented),
        unicodedata.normalize("NFD", "Théière mesures.txt"),
        "kiln 🔥 checklist.txt",
        '6" tile "blue" sample.txt',
        "customer's mug.txt",
        "-- read me first.txt",
        ".front-desk-notes",
        "README",
        "no suffix at all",
        "Firing schedule v1.2 final",
        "PRICES 2026.TXT",
    ):
        age = layout.age(1, 120)
        if not system.refused_here(name):
            layout.put(f"Intake/{name}", text + name.encode(), age)
    layout.put("Intake/logs of May.tar.gz", noise(chance, 9_000, b"\x1f\x8b\x08"), layout.age(40, 60))
    layout.put("Intake/photo of the month.jpg", noise(chance, 20_000, b"MZ\x90\0"), layout.age(8, 12))
    layout.put("Intake/empty order form.csv", b"", layout.age(15, 25))
    layout.put("Intake/signed contract.pdf", document(["Studio lease", "signed"]), layout.age(90, 100)).chmod(0o444)
    (layout.root / "Intake/latest kiln log").symlink_to("../Kiln Logs")
    first = layout.put("Supplier Invoices/Price list.csv", b"clay,per 10 kg\nstoneware,11.50\n", layout.age(30, 40))
    disk.link(first, layout.root / "Intake/Price list.csv")


def _duplicates(layout: _Layout) -> None:
    """True copies under other names, and names that look like copies but differ."""
    for number in (2, 5, 11):
        source = next(layout.root.glob(f"Intake/IMG_{2100 + number}.*"))
        layout.put(f"Intake/shelf picture {number}.jpg", source.read_bytes(), layout.age(1, 20))
    for glaze, mark, differs in (("Shino", " copy", False), ("Ash", " (2)", False), ("Celadon", " - Copy", True)):
        body = (layout.root / f"Intake/{glaze} recipe.csv").read_bytes()
        if differs:
            body += b"manganese,0.5\r\n"
        layout.put(f"Intake/{glaze} recipe{mark}.csv", body, layout.age(1, 40))


def _sorted_folders(layout: _Layout) -> None:
    """What somebody has sorted by hand already."""
    chance = layout.chance
    for back in (6, 7):
        fired_on: set[tuple[int, int]] = set()
        for _ in range(8):
            age, kiln = layout.age(1, 20), chance.choice((1, 2))
            fired = layout.months_back(back, int(layout.free_day(age, fired_on, kiln)))
            path = f"Kiln Logs/{fired:%Y-%m}/KILN {kiln} {fired:%Y-%m-%d}.log"
            layout.put(path, kiln_log(chance, fired, kiln), layout.age_of(fired))
    for glaze in ("Celadon", "Tenmoku"):
        for number in range(11):
            age = layout.age(100, 600)
            layout.put(f"Glaze Photos/{glaze}/{glaze.lower()} {number:02}.jpg", photo(chance, layout.day(age)), age)
    for form in _FORMS[:4]:
        layout.put(f"Mould Models/{form}.stl", model(chance), layout.age(200, 700))
    for number in range(18):
        age = layout.age(60, 500)
        supplier = chance.choice(_SUPPLIERS)
        paid = layout.months_back(layout.now.month + int(age) // 21, int(age) % 28 + 1)
        path = f"Supplier Invoices/{paid:%Y}/Invoice {4900 + number} {supplier}.pdf"
        layout.put(path, document([supplier, f"No. {4900 + number}"]), layout.age_of(paid))
    for month in range(6):
        day = layout.months_back(month + 1, 3)
        title = chance.choice(("Wheel course", "Children's party", "Open studio"))
        layout.put(f"Bookings/{day:%Y-%m} {title}.ics", booking(day, title), layout.age_of(day))
    for number in range(6):
        age = layout.age(5, 90)
        layout.put(f"Holding/old label {number}.pdf", document([f"Label {number}"]), age)


def _scratch(layout: _Layout) -> None:
    """The scratch folder of the glaze calculator: files and folders of all ages."""
    chance = layout.chance
    for batch, (first, last) in enumerate(((0.02, 0.5), (1.2, 4), (8, 20), (40, 200))):
        for number in range(13):
            suffix = chance.choice(("tmp", "tmp", "csv", "bak", "json"))
            body = noise(chance, chance.randrange(200, 9_000))
            path = f"Glaze Calculator/scratch/run-{batch + 1:02}/melt{number:02}.{suffix}"
            layout.put(path, body, layout.age(first, last))
    for number in range(7):
        layout.put(f"Glaze Calculator/scratch/~calc{number}.tmp", noise(chance, 700), layout.age(0.1, 60))
    for glaze in _GLAZES:
        layout.put(f"Glaze Calculator/recipes/{glaze.lower()}.json", b'{"cone": 10}\n', layout.age(100, 300))
    layout.folder("Glaze Calculator/scratch/run-05", 12)


_EXIF_DATE = "%Y:%m:%d %H:%M:%S"


def _segment(marker: int, body: bytes) -> bytes:
    return struct.pack(">BBH", 0xFF, marker, len(body) + 2) + body


def _exif(taken: datetime) -> bytes:
    """Return an Exif block with the date a photo was taken (Exif 2.32, sections 4.5 and 4.6)."""
    date = taken.strftime(_EXIF_DATE).encode() + b"\0"
    model = b"Shelf camera\0"
    first, second = 8, 8 + 2 + 3 * 12 + 4
    data = second + 2 + 12 + 4
    directory = struct.pack("<H", 3)
    directory += struct.pack("<HHII", 0x0110, 2, len(model), data)
    directory += struct.pack("<HHII", 0x0132, 2, len(date), data + len(model))
    directory += struct.pack("<HHII", 0x8769, 4, 1, second) + struct.pack("<I", 0)
    details = struct.pack("<H", 1) + struct.pack("<HHII", 0x9003, 2, len(date), data + len(model)) + struct.pack("<I", 0)
    return b"Exif\0\0" + b"II*\0" + struct.pack("<I", first) + directory + details + model + date


class _Bits:
    """Collects bits into the entropy-coded bytes of a JPEG."""

    def __init__(self) -> None:
        self._bytes = bytearray()
        self._held = 0
        self._count = 0

    def put(self, value: int, length: int) -> None:
        self._held = self._held << length | value
        self._count += length
        while self._count >= 8:
            self._count -= 8
            byte = self._held >> self._count & 0xFF
            self._bytes.append(byte)
            if byte == 0xFF:
                self._bytes.append(0)
        self._held &= (1 << self._count) - 1

    def done(self) -> bytes:
        if self._count:
            self.put((1 << (8 - self._count)) - 1, 8 - self._count)
        return bytes(self._bytes)


def photo(chance: random.Random, taken: datetime, across: int = 40, down: int = 30) -> bytes:
    """Return a JPEG of a glazed test tile, with its Exif date: one flat colour a block of 8x8.

    A baseline file after ITU-T T.81 with codes of its own: twelve of four bits for the first
    coefficient of a block, a single one for its end.
    """
    base = [chance.randrange(60, 200), chance.randrange(90, 165), chance.randrange(90, 165)]
    run = chance.uniform(0.5, 3)
    bits = _Bits()
    before = [0, 0, 0]
    for row in range(down):
        edge = 18 * math.sin(row / down * math.pi * run)
        for _ in range(across):
            speckle = chance.choice((0, 0, 0, 6, -6))
            for part in range(3):
                level = base[part] + (edge + speckle if part == 0 else edge / 4)
                value = round((level - 128) * 8 / 16)
                difference, before[part] = value - before[part], value
                length = abs(difference).bit_length()
                bits.put(length, 4)
                bits.put(difference if difference >= 0 else difference + (1 << length) - 1, length)
                bits.put(0, 1)
    parts = b"".join(struct.pack("BBB", number, 0x11, 0) for number in (1, 2, 3))
    scan = b"".join(struct.pack("BB", number, 0) for number in (1, 2, 3))
    return b"".join(
        (
            b"\xff\xd8",
            _segment(0xE1, _exif(taken)),
            _segment(0xDB, b"\0" + bytes([16] * 64)),
            _segment(0xC0, struct.pack(">BHHB", 8, down * 8, across * 8, 3) + parts),
            _segment(0xC4, b"\x00" + bytes([0, 0, 0, 12] + [0] * 12) + bytes(range(12))),
            _segment(0xC4, b"\x10" + bytes([1] + [0] * 15) + b"\0"),
            _segment(0xDA, b"\x03" + scan + b"\0\x3f\0"),
            bits.done(),
            b"\xff\xd9",
        )
    )


def scan(chance: random.Random, scanned: datetime, width: int = 160, height: int = 226) -> bytes:
    """Return a grey TIFF of a page with lines of writing (TIFF 6.0, section 3)."""
    rows = bytearray()
    for row in range(height):
        written = row % 12 < 4 and 20 < row < height - 20
        end = chance.randrange(90, width - 12) if row % 12 == 0 else width - 20
        rows += bytes(40 if written and 14 < x < end and chance.random() < 0.6 else 240 for x in range(width))
    date = scanned.strftime(_EXIF_DATE).encode() + b"\0"
    tags = [
        (0x0100, 3, 1, width), (0x0101, 3, 1, height), (0x0102, 3, 1, 8), (0x0103, 3, 1, 1), (0x0106, 3, 1, 1),
        (0x0111, 4, 1, 8), (0x0115, 3, 1, 1), (0x0116, 3, 1, height), (0x0117, 4, 1, len(rows)),
    ]  # fmt: skip
    start = 8 + len(rows)
    tags.append((0x0132, 2, len(date), start + 2 + 12 * (len(tags) + 1) + 4))
    directory = struct.pack("<H", len(tags)) + b"".join(struct.pack("<HHII", *tag) for tag in tags)
    return b"II*\0" + struct.pack("<I", start) + bytes(rows) + directory + struct.pack("<I", 0) + date


def document(lines: list[str]) -> bytes:
    """Return a PDF of one page of text (ISO 32000-1, section 7.5)."""
    escaped = [line.replace("\\", "\\\\").replace("(", "\\(").replace(")", "\\)") for line in lines]
    text = "BT /F1 12 Tf 60 780 Td 16 TL " + " ".join(f"({line}) Tj T*" for line in escaped) + " ET"
    stream = text.encode("latin-1", "replace")
    objects = [
        b"<< /Type /Catalog /Pages 2 0 R >>",
        b"<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
        b"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R /Resources << /Font << /F1 5 0 R >> >> >>",
        b"<< /Length %d >>\nstream\n%s\nendstream" % (len(stream), stream),
        b"<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>",
    ]
    out = bytearray(b"%PDF-1.4\n")
    offsets = []
    for number, body in enumerate(objects, 1):
        offsets.append(len(out))
        out += b"%d 0 obj\n%s\nendobj\n" % (number, body)
    table = len(out)
    out += b"xref\n0 %d\n0000000000 65535 f \n" % (len(objects) + 1)
    out += b"".join(b"%010d 00000 n \n" % offset for offset in offsets)
    out += b"trailer << /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n" % (len(objects) + 1, table)
    return bytes(out)


def model(chance: random.Random, around: int = 24, up: int = 10) -> bytes:
    """Return a binary STL of a turned form, such as a mug mould."""
    profile = [30 + 8 * math.sin(level / up * 3) + chance.uniform(0, 3) for level in range(up + 1)]

    def point(level: int, step: int) -> tuple[float, float, float]:
        angle = 2 * math.pi * step / around
        return profile[level] * math.cos(angle), profile[level] * math.sin(angle), level * 9.0

    faces = []
    for level in range(up):
        for step in range(around):
            a, b = point(level, step), point(level, step + 1)
            c, d = point(level + 1, step), point(level + 1, step + 1)
            faces += [(a, b, c), (b, d, c)]
    body = b"".join(struct.pack("<12fH", 0, 0, 0, *a, *b, *c, 0) for a, b, c in faces)
    return b"Tidewater Pottery mould".ljust(80, b" ") + struct.pack("<I", len(faces)) + body


def archive(members: dict[str, bytes]) -> bytes:
    """Return a zip with some members."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, body in members.items():
            packed.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 9, 0, 0)), body)
    return out.getvalue()


def kiln_log(chance: random.Random, fired: datetime, kiln: int) -> bytes:
    """Return the log of one firing: a temperature every ten minutes."""
    peak = chance.choice((1000, 1060, 1220, 1260))
    lines = [f"kiln {kiln}  fired {fired:%Y-%m-%d}  peak {peak} C"]
    for minute in range(0, 600, 10):
        heat = 20 + (peak - 20) * math.sin(min(minute, 420) / 420 * math.pi / 2) * (1 if minute < 420 else 420 / minute)
        lines.append(f"{minute // 60:02}:{minute % 60:02}  {heat + chance.uniform(-3, 3):7.1f} C")
    return ("\n".join(lines) + "\n").encode()


def recipe_table(chance: random.Random, glaze: str) -> bytes:
    """Return a glaze recipe as CSV."""
    parts = ["potash feldspar", "whiting", "silica", "kaolin", "red iron oxide", "cobalt carbonate", "bone ash"]
    rows = [f"{part},{chance.uniform(0.5, 45):.1f}" for part in parts]
    return ("\r\n".join([f"{glaze},percent", *rows]) + "\r\n").encode()


def booking(day: datetime, title: str) -> bytes:
    """Return one event as iCalendar (RFC 5545)."""
    return (
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Tidewater Pottery//EN\r\nBEGIN:VEVENT\r\n"
        f"UID:{day:%Y%m%d}@tidewater.example\r\nDTSTAMP:{day:%Y%m%d}T090000Z\r\nDTSTART:{day:%Y%m%d}T140000Z\r\n"
        f"SUMMARY:{title}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    ).encode()


def contact(name: str) -> bytes:
    """Return one contact as vCard (RFC 6350)."""
    local = "".join(letter for letter in name.lower() if letter.isascii() and letter.isalpha())
    return f"BEGIN:VCARD\r\nVERSION:4.0\r\nFN:{name}\r\nEMAIL:{local}@example.org\r\nEND:VCARD\r\n".encode()


def noise(chance: random.Random, size: int, head: bytes = b"") -> bytes:
    """Return bytes that mean nothing, after a head that names their kind."""
    return head + chance.randbytes(size)
