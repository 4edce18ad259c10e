"""Who can reach which port: as text, JSON and CSV."""

from __future__ import annotations

import csv
import io
from itertools import groupby
from typing import TYPE_CHECKING, Any

from nightlatch.access.exposure import ExposedSocket, Fate, Piece
from nightlatch.audit import documents
from nightlatch.net.addresses import ALL_V4, ALL_V6, EVERY_ADDRESS
from nightlatch.report import machine, page
from nightlatch.report.audit_text import count
from nightlatch.report.change_text import pending
from nightlatch.report.rows import cell
from nightlatch.report.safe import in_one_line

if TYPE_CHECKING:
    from nightlatch.ops.exposure import Exposure

MOST_PREFIXES = 200  # that are counted
COLUMNS = ("guest", "protocol", "port", "address", "program", "by", "family", "fate", "sources", "rule", "place")


def text(sheet: page.Page, result: Exposure, source: str) -> None:
    """Guest by guest and socket by socket: from where, what becomes of it, and by which rule."""
    pending(sheet, result.latched)
    for guest, found in groupby(result.sockets, key=lambda each: each.guest):
        sheet.line((guest, "name"))
        for each in found:
            _socket(sheet, each, result)
        sheet.blank()
    if result.quiet:
        sheet.wrapped(f"Nothing of {', '.join(result.quiet)} is known to listen for others.", label="quiet", indent=2)
    for guest, problem in result.unread:
        sheet.wrapped(in_one_line(problem), label=guest, indent=2, style="high")
    everywhere = [each for each in result.sockets if not each.space and _open_to_all(each)]
    unsure = [each for each in result.sockets if each.sources(Fate.UNDECIDED)]
    parts = [count(len(result.sockets), "port"), f"{len(everywhere)} open to everybody"]
    parts.append(f"{len(unsure)} undecided" if unsure else "nothing undecided")
    sheet.wrapped(f"{', '.join(parts)}.   Next: nightlatch audit {source}")


def _open_to_all(each: ExposedSocket) -> bool:
    """Whether nobody of some family is kept out."""
    return any(
        {piece.fate for piece in each.pieces if piece.family == family} == {Fate.IN}
        for family in {piece.family for piece in each.pieces}
    )


def _socket(sheet: page.Page, each: ExposedSocket, result: Exposure) -> None:
    bound = f"on {each.address}" if each.address not in ("", "0.0.0.0", "::") else "on all addresses"
    by = f", by the forward from {each.by}" if each.by else f", called from {each.space} itself" if each.space else ""
    program = each.program or "a program that is not known"
    sheet.line("  ", (f"{each.port}/{each.protocol}", "name"), f"  {program} {bound}{by}")
    pieces = _joined(each.pieces)
    rows = []
    for number, piece in enumerate(pieces):
        rest = number == len(pieces) - 1 > 0 and piece.fate is not Fate.IN
        callers = result.callers(piece.sources, each.space)
        where = "anywhere else" if rest else result.names.where(callers)
        rows.append((where, piece.fate.value, _rule(piece)))
    sheet.table(rows, ["plain", "plain", "place"], indent=4)


def _joined(pieces: tuple[Piece, ...]) -> list[Piece]:
    """Pieces of both families that one rule decides alike are told as one."""
    out: list[Piece] = []
    for piece in pieces:
        last = out[-1] if out else None
        if last is not None and (last.fate, last.text, last.origin) == (piece.fate, piece.text, piece.origin):
            out[-1] = Piece("", last.fate, last.sources | piece.sources, last.text, last.origin)
        else:
            out.append(piece)
    return out


def _rule(piece: Piece) -> str:
    return f"{piece.origin}   {piece.text}" if piece.origin is not None else piece.text


def document(result: Exposure) -> dict[str, Any]:
    """The whole as JSON (docs/json.md)."""
    return {
        "format": "nightlatch/exposure/1",
        "estate": result.estate,
        "at": result.at.isoformat(),
        "sockets": [_socket_json(each) for each in result.sockets],
        "quiet": list(result.quiet),
        "unread": [{"guest": guest, "because": because} for guest, because in result.unread],
        "on_the_latch": machine.latched(result.latched),
    }


def _socket_json(each: ExposedSocket) -> dict[str, Any]:
    return {
        "guest": each.guest,
        "protocol": each.protocol,
        "port": each.port,
        "address": each.address,
        "program": each.program,
        "by": each.by,
        "space": each.space,
        "pieces": [
            {
                "family": piece.family,
                "fate": piece.fate.value,
                "sources": [str(p) for p in piece.sources.prefixes()],
                "rule": piece.text,
                "origin": documents.origin(piece.origin) if piece.origin is not None else None,
            }
            for piece in each.pieces
        ],
    }


def _few(piece: Piece) -> str:
    """The sources in as few words as say them exactly: prefixes, or those that are left out of their family."""
    whole = {"IPv4": ALL_V4, "IPv6": ALL_V6}.get(piece.family, EVERY_ADDRESS)
    inside, outside = piece.sources.prefixes(MOST_PREFIXES), (whole - piece.sources).prefixes(MOST_PREFIXES)
    if len(inside) > 2 and len(outside) < len(inside):
        return " ".join([f"all of {piece.family or 'both families'}", *(["but"] if outside else []), *outside])
    return " ".join(piece.sources.prefixes())


def rows(result: Exposure) -> str:
    """One row for each piece as CSV (RFC 4180)."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(COLUMNS)
    for each in result.sockets:
        for piece in each.pieces:
            sources = _few(piece)
            row = (
                each.guest,
                each.protocol,
                str(each.port),
                each.address,
                each.program,
                each.by,
                piece.family,
                piece.fate.value,
                sources,
                piece.text,
                str(piece.origin or ""),
            )
            writer.writerow([cell(text) for text in row])
    return out.getvalue()
