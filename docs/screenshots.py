"""Makes the pictures in docs/screenshots from the demo: real commands in a real terminal window.

Needs Xvfb, xterm and ImageMagick; with LibreOffice and poppler it also shows the lent workbook.

    python docs/screenshots.py [NAME ...]
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from mudanza.demo import tour

HERE = Path(__file__).parent
SHOTS = HERE / "screenshots"
MUDANZA = Path(sys.executable).with_name("mudanza")
DISPLAY = ":97"

#: picture → commands to run before, unseen, and the command shown
PICTURES: dict[str, tuple[list[str], str]] = {
    "sources": ([], "mudanza survey incoming"),
    "survey": ([], "mudanza survey incoming/north/clients.csv --expect 84 --chart filled.png"),
    "layout": ([], "mudanza layout draft animals-as-sent target/animals-import.xlsx"),
    "match": (
        [],
        "mudanza match pets --layout animals --source incoming/north/animals.csv --source incoming/harbour/animals.txt --rehearse --chart matched.png",
    ),
    "crosswalk": ([], "mudanza crosswalk owners"),
    "preview": ([], "mudanza preview owners -n 1"),
    "build": ([], "mudanza build owners"),
    "check": (
        ["mudanza build >build.txt || true"],
        "mudanza check out; mudanza check incoming/from-a-colleague.csv --annotated annotated.xlsx",
    ),
    "records": (
        [],
        "mudanza records owners --where '{@town} = \"Braga\" and {@balance} > 0' --columns full_name,phone,balance --sort=-balance; "
        "mudanza records owners --count-by town; mudanza records owners --key OW-000007",
    ),
    "error": (["sed -i 's/{Town}/{Twon}/' plans/owners.toml"], "mudanza build owners"),
    "lend": (
        ["sed -i 's/{Twon}/{Town}/' plans/owners.toml"],
        "mudanza lend owners --columns full_name,street,town,email,since,phone --where '{Town} = \"Braga\"'",
    ),
    "receive": (
        [
            "mudanza lend owners --by branch --columns full_name,street,town,email,since --mask phone",
            "correct",
            "mudanza receive 'back from the front desk.xlsx' --accept >accepted.txt || true",
            "spoil",
        ],
        "mudanza receive 'back from harbour.csv' --accept; mudanza carry-back owners",
    ),
    "trace": (
        ["answer", "mudanza receive 'back from north.xlsx' --review --to review.xlsx >review.txt || true"],
        "mudanza trace OW-000003 --fields full_name,phone,standing",
    ),
    "mapping": ([], "mudanza lend owners --mapping --to mapping.xlsx"),
    "ledger": ([], "mudanza ledger"),
    "again": (
        ["mudanza build >build.txt || true", "mudanza handed-over last --by Inês", 'cp -r "a month later/." incoming/'],
        "mudanza build owners --since --rehearse",
    ),
}


#: pictures that need more lines than fit: they are written smaller
LONG = {
    "sources": ("8", "190x66"),
    "build": ("9", "170x58"),
    "again": ("7", "190x78"),
    "survey": ("10", "155x48"),
    "trace": ("9", "158x52"),
    "check": ("9", "170x60"),
    "records": ("10", "150x52"),
}


def shoot(command: str, folder: Path, target: Path) -> None:
    """Run a command in a terminal window and take its picture."""
    size, geometry = LONG.get(target.stem, ("11", "141x42"))
    environment = {
        **os.environ,
        "DISPLAY": DISPLAY,
        "TERM": "xterm-256color",
        "PATH": f"{MUDANZA.parent}:{os.environ['PATH']}",
    }
    environment.pop("NO_COLOR", None)
    done = folder.parent / f"{target.stem}.done"
    shown = f"printf '\\033[?25l$ %s\\n\\n' {shlex.quote(command)}; {command}; printf '\\033[?25l'; touch {shlex.quote(str(done))}; sleep 90"
    terminal = subprocess.Popen(
        [
            "xterm",
            "-tn",
            "xterm-256color",
            "-bw",
            "0",
            "-fa",
            "DejaVu Sans Mono",
            "-fs",
            size,
            "-geometry",
            f"{geometry}+0+0",
            "-bg",
            "white",
            "-fg",
            "black",
            "-e",
            "bash",
            "-c",
            shown,
        ],
        cwd=folder,
        env=environment,
    )
    # machines differ, and are busy
    for _ in range(400):
        if done.exists():
            break
        time.sleep(0.2)
    time.sleep(1)
    subprocess.run(["import", "-display", DISPLAY, "-window", "root", str(target)], check=True)
    # without the empty part of the screen
    subprocess.run(["mogrify", "-trim", "+repage", "-bordercolor", "white", "-border", "12", str(target)], check=True)
    terminal.terminate()
    terminal.wait()


def main() -> None:
    wanted = sys.argv[1:] or [*PICTURES, "workbook", "annotated"]
    SHOTS.mkdir(exist_ok=True)
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1274x800x24", "-wr"], stderr=subprocess.DEVNULL)
    time.sleep(1)
    try:
        with tempfile.TemporaryDirectory() as temporary:
            folder = Path(temporary) / "practice"
            environment = {**os.environ, "PATH": f"{MUDANZA.parent}:{os.environ['PATH']}"}
            subprocess.run([str(MUDANZA), "demo", str(folder), "--only-create"], check=True)
            for name, (before, command) in PICTURES.items():
                for step in before:
                    if step in ("correct", "spoil", "answer"):
                        getattr(tour, step)(folder)
                    else:
                        subprocess.run(step, shell=True, cwd=folder, env=environment, check=True)
                if name in wanted and name not in ("mapping", "lend"):
                    shoot(command, folder, SHOTS / f"{name}.png")
                else:
                    subprocess.run(command, shell=True, cwd=folder, env=environment, check=False, capture_output=True)
            if "survey" in wanted:
                shutil.copy(folder / "filled.png", SHOTS / "chart.png")
            if "match" in wanted:
                shutil.copy(folder / "matched.png", SHOTS / "matched.png")
            if "workbook" in wanted and shutil.which("soffice"):
                lent = next((folder / "loans").glob("*-nor.xlsx"))
                picture_of_workbook(lent, Path(temporary), "workbook", "1290x420")
                picture_of_workbook(folder / "review.xlsx", Path(temporary), "review", "1290x420")
                both = [str(SHOTS / "workbook.png"), str(SHOTS / "review.png")]
                subprocess.run(["convert", *both, "-append", both[0]], check=True)
                Path(both[1]).unlink()
            if "annotated" in wanted and shutil.which("soffice"):
                picture_of_workbook(folder / "annotated.xlsx", Path(temporary), "annotated", "1290x330", pages=2)
            if "mapping" in wanted and shutil.which("soffice"):
                picture_of_workbook(folder / "mapping.xlsx", Path(temporary), "mapping", "1290x800")
    finally:
        screen.terminate()


def picture_of_workbook(workbook: Path, folder: Path, name: str, size: str, pages: int = 1) -> None:
    """A workbook as an office suite prints it: its first pages, one below the other."""
    subprocess.run(
        ["soffice", "--headless", "--convert-to", "pdf", "--outdir", str(folder), str(workbook)],
        check=True,
        capture_output=True,
    )
    width, height = size.split("x")
    form = ["-png", "-r", "110", "-x", "0", "-y", "0", "-W", width, "-H", height]
    printed = []
    for page in range(1, pages + 1):
        target = folder / f"{name}-{page}"
        number = ["-f", str(page), "-l", str(page)]
        subprocess.run(
            ["pdftoppm", *form, *number, "-singlefile", str(folder / f"{workbook.stem}.pdf"), str(target)], check=True
        )
        printed.append(f"{target}.png")
    trimmed = ["-trim", "+repage", "-bordercolor", "white", "-border", "12"]
    subprocess.run(["convert", *printed, *trimmed, "-append", str(SHOTS / f"{name}.png")], check=True)


if __name__ == "__main__":
    main()
