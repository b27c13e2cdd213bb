"""Lays the files of the built page, compressed, into a C++ source: pack.py FOLDER SOURCE."""

import gzip
import hashlib
import pathlib
import sys

TYPES = {
    ".html": "text/html; charset=utf-8",
    ".js": "text/javascript; charset=utf-8",
    ".css": "text/css; charset=utf-8",
    ".svg": "image/svg+xml",
    ".woff2": "font/woff2",
    ".json": "application/json",
    ".webmanifest": "application/manifest+json",
}

folder, source = pathlib.Path(sys.argv[1]), pathlib.Path(sys.argv[2])
packed = folder.parent / "packed"
packed.mkdir(exist_ok=True)
data, declarations, rows = [], [], []
for number, file in enumerate(sorted(p for p in folder.rglob("*") if p.is_file())):
    octets = file.read_bytes()
    tag = hashlib.sha256(octets).hexdigest()[:16]
    # The version is in the name, so that whoever compiles sees that it is another.
    small = packed / f"{tag}.gz"
    small.write_bytes(gzip.compress(octets, 9, mtime=0))
    data.append(f'    "zunth_page_{number}: .incbin \\"{small}\\"\\n"')
    declarations.append(f'extern "C" const char zunth_page_{number}[];')
    path = "/" + file.relative_to(folder).as_posix()
    immutable = "true" if path.startswith("/assets/") else "false"
    rows.append(
        f'    {{"{path}", "{TYPES.get(file.suffix, "application/octet-stream")}", '
        f'{{zunth_page_{number}, {small.stat().st_size}}}, "{tag}", {immutable}}},'
    )
source.write_text(
    "\n".join(
        [
            '#include "service/console/page_files.hpp"',
            "",
            "#include <algorithm>",
            "#include <iterator>",
            "",
            'asm(".section .rodata\\n"',
            *data,
            '    ".text\\n");',
            *declarations,
            "",
            "namespace zunth::console {",
            "",
            "const PageFile* pageFile(std::string_view path) {",
            "  static const PageFile files[] = {",
            *rows,
            "  };",
            "  const auto found = std::ranges::find(files, path, &PageFile::path);",
            "  return found == std::end(files) ? nullptr : &*found;",
            "}",
            "",
            "}  // namespace zunth::console",
            "",
        ]
    )
)
