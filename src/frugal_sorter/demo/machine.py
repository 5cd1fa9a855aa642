"""Lays the made-up machine out: what lies where, under which name, and how old it is."""

from __future__ import annotations

import random
import unicodedata
from datetime import datetime, timedelta
from importlib import resources

from frugal_sorter.demo import contents
from frugal_sorter.errors import UsageError
from frugal_sorter.platforms import disk, names
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
        """Make a folder; it is as old as the newest of what lies in it."""
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
        layout.put(f"Intake/KILN {kiln} {fired:%Y-%m-%d}.{suffix}", contents.kiln_log(chance, fired, kiln), age)
    for number in range(34):
        age = layout.age(0.1, 400)
        name = f"IMG_{2100 + number}.{chance.choice(('jpg', 'jpg', 'JPG', 'jpeg'))}"
        layout.put(f"Intake/{name}", contents.photo(chance, layout.day(age + 0.2)), age)
    for number in range(9):
        age = layout.age(1, 200)
        layout.put(
            f"Intake/scan{number:03}.{chance.choice(('tif', 'TIFF'))}",
            contents.scan(chance, layout.day(age)),
            age,
        )
    for number in range(14):
        age = layout.age(2, 380)
        supplier = chance.choice(_SUPPLIERS)
        lines = [supplier, "Supplier invoice", f"No. {5200 + number}", f"Date {layout.day(age):%Y-%m-%d}"]
        layout.put(f"Intake/Invoice {5200 + number} {supplier}.pdf", contents.document(lines), age)
    for form in _FORMS:
        age = layout.age(3, 300)
        layout.put(f"Intake/{form} mould v{chance.randrange(1, 4)}.stl", contents.model(chance), age)
    layout.put("Intake/Foot ring.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", layout.age(20, 90))
    for glaze in _GLAZES:
        layout.put(f"Intake/{glaze} recipe.csv", contents.recipe_table(chance, glaze), layout.age(1, 250))
    for title in ("Throwing class", "Kiln opening", "Glaze workshop"):
        age = layout.age(1, 60)
        layout.put(f"Intake/{title}.ics", contents.booking(layout.day(age - 14), title), age)
    for name in ("Maren Holt", "Søren Lind"):
        layout.put(f"Intake/{name}.vcf", contents.contact(name), layout.age(5, 200))
    installers = (
        ("label-printer-setup.exe", b"MZ"),
        ("kiln-link.msi", b"\xd0\xcf\x11\xe0"),
        ("viewer_2.1_amd64.deb", b"!<arch>\n"),
    )
    for name, head in installers:
        layout.put(
            f"Intake/{name}",
            contents.noise(chance, chance.randrange(60_000, 300_000), head),
            layout.age(35, 300),
        )
    for name in ("glaze-tests", "website pictures", "market stall"):
        members = {f"{name}/{n}.csv": contents.recipe_table(chance, name) for n in range(3)}
        layout.put(f"Intake/{name}.zip", contents.archive(members), layout.age(10, 120))
    layout.put("Intake/catalogue.pdf.part", contents.noise(chance, 40_000, b"%PDF-1.4\n"), 0.01)
    layout.put("Intake/firing video.mp4.crdownload", contents.noise(chance, 90_000), layout.age(2, 5))
    for number in range(8):
        age = layout.age(1, 30)
        name = f"Intake/From phone/IMG_{2100 + number * 3}.jpg"
        layout.put(name, contents.photo(chance, layout.day(age)), age)


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
        if not names.refused_here(name):
            layout.put(f"Intake/{name}", text + name.encode(), age)
    layout.put("Intake/logs of May.tar.gz", contents.noise(chance, 9_000, b"\x1f\x8b\x08"), layout.age(40, 60))
    layout.put("Intake/photo of the month.jpg", contents.noise(chance, 20_000, b"MZ\x90\0"), layout.age(8, 12))
    layout.put("Intake/empty order form.csv", b"", layout.age(15, 25))
    layout.put("Intake/signed contract.pdf", contents.document(["Studio lease", "signed"]), layout.age(90, 100)).chmod(
        0o444
    )
    (layout.root / "Intake/latest kiln log").symlink_to("../Kiln Logs")
    first = layout.put("Supplier Invoices/Price list.csv", b"clay,per 10 kg\nstoneware,11.50\n", layout.age(30, 40))
    disk.link(first, layout.root / "Intake/Price list.csv")


def _duplicates(layout: _Layout) -> None:
    """True copies under other names, and names that look like copies but differ."""
    for number in (2, 5, 11):
        source = next(layout.root.glob(f"Intake/IMG_{2100 + number}.*"))
        layout.put(f"Intake/shelf picture {number}.jpg", source.read_bytes(), layout.age(1, 20))
    for glaze, mark, differs in (
        ("Shino", " copy", False),
        ("Ash", " (2)", False),
        ("Celadon", " - Copy", True),
    ):
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
            layout.put(path, contents.kiln_log(chance, fired, kiln), layout.age_of(fired))
    for glaze in ("Celadon", "Tenmoku"):
        for number in range(11):
            age = layout.age(100, 600)
            layout.put(
                f"Glaze Photos/{glaze}/{glaze.lower()} {number:02}.jpg",
                contents.photo(chance, layout.day(age)),
                age,
            )
    for form in _FORMS[:4]:
        layout.put(f"Mould Models/{form}.stl", contents.model(chance), layout.age(200, 700))
    for number in range(18):
        age = layout.age(60, 500)
        supplier = chance.choice(_SUPPLIERS)
        paid = layout.months_back(layout.now.month + int(age) // 21, int(age) % 28 + 1)
        path = f"Supplier Invoices/{paid:%Y}/Invoice {4900 + number} {supplier}.pdf"
        layout.put(path, contents.document([supplier, f"No. {4900 + number}"]), layout.age_of(paid))
    for month in range(6):
        day = layout.months_back(month + 1, 3)
        title = chance.choice(("Wheel course", "Children's party", "Open studio"))
        layout.put(f"Bookings/{day:%Y-%m} {title}.ics", contents.booking(day, title), layout.age_of(day))
    for number in range(6):
        age = layout.age(5, 90)
        layout.put(f"Holding/old label {number}.pdf", contents.document([f"Label {number}"]), age)


def _scratch(layout: _Layout) -> None:
    """The scratch folder of the glaze calculator: files and folders of all ages."""
    chance = layout.chance
    for batch, (first, last) in enumerate(((0.02, 0.5), (1.2, 4), (8, 20), (40, 200))):
        for number in range(13):
            suffix = chance.choice(("tmp", "tmp", "csv", "bak", "json"))
            body = contents.noise(chance, chance.randrange(200, 9_000))
            path = f"Glaze Calculator/scratch/run-{batch + 1:02}/melt{number:02}.{suffix}"
            layout.put(path, body, layout.age(first, last))
    for number in range(7):
        layout.put(f"Glaze Calculator/scratch/~calc{number}.tmp", contents.noise(chance, 700), layout.age(0.1, 60))
    for glaze in _GLAZES:
        layout.put(f"Glaze Calculator/recipes/{glaze.lower()}.json", b'{"cone": 10}\n', layout.age(100, 300))
    layout.folder("Glaze Calculator/scratch/run-05", 12)
