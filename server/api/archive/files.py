"""All that people have written, as files of text: one a definition, in a stable order, without secrets or devices.

types/KEY.json  decoders/KEY.ocu  decoders/KEY.cases.jsonl  routes/NN-NAME.ocu  conditions/NAME.ocu
conditions/NAME.md (what to do)  tables/NAME.csv  sites.csv  setpoints.csv  fences.geojson
outlets.json  contacts.json  chains.json
"""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote, unquote

from server.api.devices.serial import SiteOut, TypeOut
from server.api.telling.serial import ChainOut, ContactOut
from server.records.definitions.models import Case, Definition, ReferenceTable
from server.records.fleet.models import DeviceType, Fence, Setpoint, Site
from server.records.telling.models import Chain, Contact, Outlet
from server.rules.refusal import Refused
from server.rules.routes import in_order
from server.rules.tables import written as table_text

MOST_FILES, MOST_BYTES = 5_000, 20_000_000
SITE = ["name", "title", "parent", "zone", "latitude", "longitude", "caretaker", "attended"]
SITE_BEFORE = SITE[:6]  # as archives had it first: what is not there stays as it is
SETPOINT = ["type", "site", "setpoint", "value"]
KINDS = [
    *("site", "type", "setpoint", "fence", "table", "outlet", "decoder", "cases", "route", "condition"),
    *("instruction", "contact", "chain"),
]


@dataclass(frozen=True)
class Item:
    """One thing of an archive: its kind and name, the file that it stands in, and what is written of it."""

    kind: str
    name: str
    path: str
    text: str

    @property
    def key(self) -> tuple[str, str]:
        return self.kind, self.name


def slug(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60] or "nameless"


def pretty(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False, indent=2) + "\n"


def rows(head: list[str], listed: Iterable[Mapping[str, Any]]) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(head)
    for one in listed:
        writer.writerow([_cell(one[name]) for name in head])
    return out.getvalue()


def _cell(value: Any) -> str:
    return "" if value is None else f"{value:.15g}" if isinstance(value, float) else str(value)


# out ------------------------------------------------------------------------------------------
def items() -> list[Item]:
    """All that there is, in the order in which it can be made."""
    found: list[Item] = []

    def paths(folder: str, end: str) -> Callable[[str], str]:
        known: dict[str, int] = {}

        def path(name: str) -> str:
            bare = slug(name)
            known[bare] = known.get(bare, 0) + 1
            return f"{folder}/{bare}{f'-{known[bare]}' if known[bare] > 1 else ''}{end}"

        return path

    for site in _downwards():
        data = dict(SiteOut(site).data)
        found.append(Item("site", site.name, "sites.csv", rows(SITE, [data])))
    for type_ in DeviceType.objects.order_by("key"):
        data = dict(TypeOut(type_).data)
        kept = {name: data[name] for name in ("key", "title", "cadence_s", "is_gateway", "fields", "setpoints")}
        found.append(Item("type", type_.key, f"types/{type_.key}.json", pretty(kept)))
    own = (
        Setpoint.objects.filter(device=None).select_related("type", "site").order_by("type__key", "site__name", "name")
    )
    for one in own:
        row = {
            "type": one.type.key,
            "site": one.site.name if one.site else "",
            "setpoint": one.name,
            "value": one.value,
        }
        found.append(
            Item("setpoint", f"{row['type']} {row['site']} {one.name}", "setpoints.csv", rows(SETPOINT, [row]))
        )
    for fence in Fence.objects.order_by("name"):
        found.append(Item("fence", fence.name, "fences.geojson", pretty(_feature(fence))))
    for table in ReferenceTable.objects.order_by("name"):
        found.append(Item("table", table.name, f"tables/{quote(table.name, safe=' ')}.csv", table_text(table)))
    for outlet in Outlet.objects.order_by("name"):
        about = {"name": outlet.name, "kind": outlet.kind, "on": outlet.on, "per_hour": outlet.per_hour}
        found.append(Item("outlet", outlet.name, "outlets.json", pretty(about | {"settings": outlet.settings})))
    live = Definition.objects.filter(live__isnull=False).select_related("live", "type")
    for decoder in live.filter(kind="decoder").order_by("type__key"):
        base = f"decoders/{decoder.type.key}"
        found.append(Item("decoder", decoder.type.key, f"{base}.ocu", _text(decoder)))
        cases = [_case(case) for case in decoder.cases.order_by("name")]
        if cases:
            text = "".join(json.dumps(case, ensure_ascii=False) + "\n" for case in cases)
            found.append(Item("cases", decoder.type.key, f"{base}.cases.jsonl", text))
    for number, route in enumerate(in_order().filter(live__isnull=False).select_related("live"), 1):
        found.append(Item("route", route.name, f"routes/{number:02}-{slug(route.name)}.ocu", _text(route)))
    path = paths("conditions", "")
    for condition in live.filter(kind="condition").order_by("name"):
        base = path(condition.name)
        found.append(Item("condition", condition.name, f"{base}.ocu", _text(condition)))
        if condition.instruction:
            found.append(Item("instruction", condition.name, f"{base}.md", condition.instruction.rstrip() + "\n"))
    for contact in Contact.objects.order_by("name"):
        found.append(Item("contact", contact.name, "contacts.json", pretty(_contact(contact))))
    for chain in Chain.objects.order_by("name"):
        found.append(Item("chain", chain.name, "chains.json", pretty(_chain(chain))))
    return found


def _downwards() -> list[Site]:
    """Sites, each behind the one that it lies in."""
    known = list(Site.objects.select_related("parent").order_by("name"))
    found: list[Site] = []
    while len(found) < len(known):
        done = {site.pk for site in found}
        more = [s for s in known if s.pk not in done and (s.parent_id is None or s.parent_id in done)]
        if not more:
            break
        found += more
    return found


def _text(definition: Definition) -> str:
    assert definition.live is not None
    return definition.live.text


def _feature(fence: Fence) -> dict[str, Any]:
    feature = fence.feature
    return {
        "type": "Feature",
        "properties": {**(feature.get("properties") or {}), "name": fence.name},
        "geometry": feature["geometry"],
    }


def _case(case: Case) -> dict[str, Any]:
    about = {
        "name": case.name,
        "payload_hex": bytes(case.payload).hex(),
        "received_at": case.received_at.isoformat().replace("+00:00", "Z"),
        "headers": case.headers,
        "constants": case.constants,
        "previous_hex": bytes(case.previous).hex() if case.previous is not None else None,
        "expect": case.expect,
    }
    return {name: value for name, value in about.items() if value not in ({}, None)}


def _contact(contact: Contact) -> dict[str, Any]:
    outlets, people = _names(Outlet), _names(Contact)
    data = dict(ContactOut(contact).data)
    rota = data["rota"]
    if rota is not None:
        rota = rota | {
            "weeks": [people.get(n, "") for n in rota["weeks"]],
            "exceptions": [e | {"contact": people.get(e["contact"], "")} for e in rota["exceptions"]],
        }
    addresses = [{"outlet": outlets.get(a["outlet"], ""), "to": a["to"]} for a in data["addresses"]]
    return {
        "name": data["name"],
        "zone": data["zone"],
        "addresses": addresses,
        "days_off": data["days_off"],
        "rota": rota,
    }


def _chain(chain: Chain) -> dict[str, Any]:
    people = _names(Contact)
    conditions = dict(Definition.objects.filter(kind="condition").values_list("pk", "name"))
    data = dict(ChainOut(chain).data)
    steps = [{"after_s": s["after_s"], "contacts": [people.get(n, "") for n in s["contacts"]]} for s in data["steps"]]
    kept = {n: data[n] for n in ("name", "on", "priorities", "site", "tells", "open_after_s", "quiet")}
    return kept | {"steps": steps, "conditions": [conditions.get(n, "") for n in data["conditions"]]}


def _names(model: Any) -> dict[int, str]:
    return dict(model.objects.values_list("pk", "name"))


def files_of(listed: Iterable[Item]) -> dict[str, str]:
    """Items as files: those that share one stand in it together."""
    joint: dict[str, list[Item]] = {}
    for item in listed:
        joint.setdefault(item.path, []).append(item)
    found = {}
    for path, own in joint.items():
        if path.endswith((".csv",)) and own[0].kind in ("site", "setpoint"):
            head = own[0].text.split("\n")[0] + "\n"
            found[path] = head + "".join(item.text.split("\n", 1)[1] for item in own)
        elif path == "fences.geojson":
            features = [json.loads(item.text) for item in own]
            found[path] = pretty({"type": "FeatureCollection", "features": features})
        elif path in ("outlets.json", "contacts.json", "chains.json"):
            found[path] = pretty([json.loads(item.text) for item in own])
        else:
            found[path] = own[0].text
    return dict(sorted(found.items()))


# in -------------------------------------------------------------------------------------------
def items_of(files: Mapping[str, str]) -> list[Item]:
    """Files as items. Raises Refused where one cannot be read, saying which."""
    if len(files) > MOST_FILES or sum(map(len, files.values())) > MOST_BYTES:
        raise Refused("too many", f"an archive has at most {MOST_FILES:,} files and {MOST_BYTES // 10**6} MB")
    found: list[Item] = []
    for path, text in sorted(files.items()):
        text = text.replace("\r\n", "\n")
        try:
            found += _items(path, text)
        except Refused as error:
            raise Refused("archive", f"{path}: {error.sentence}") from None
        except (ValueError, KeyError, TypeError, IndexError, AttributeError) as error:
            raise Refused("archive", f"{path}: this cannot be read: {type(error).__name__}: {error}"[:300]) from None
    called = {item.path.removesuffix(".ocu"): item.name for item in found if item.kind == "condition"}
    for k, item in enumerate(found):
        if item.kind == "instruction":
            base = item.path.removesuffix(".md")
            if base not in called:
                raise Refused("archive", f"{item.path}: there is no condition `{base}.ocu` beside it")
            found[k] = Item("instruction", called[base], item.path, item.text)
    twice = next((item for k, item in enumerate(found) if item.key in {other.key for other in found[:k]}), None)
    if twice is not None:
        raise Refused("archive", f"{twice.path}: the {twice.kind} “{twice.name}” stands twice in the archive")
    return sorted(found, key=lambda item: KINDS.index(item.kind))


def _items(path: str, text: str) -> list[Item]:
    folder, _, file = path.rpartition("/")
    if path in ("sites.csv", "setpoints.csv"):
        head = SITE if path == "sites.csv" else SETPOINT
        read = csv.DictReader(io.StringIO(text))
        if path == "sites.csv" and read.fieldnames == SITE_BEFORE:
            head = SITE_BEFORE
        if read.fieldnames != head:
            raise Refused(
                "archive", f"line 1: found `{','.join(read.fieldnames or [])[:80]}`, expected {', '.join(head)}"
            )
        found = []
        for line in read:
            row = {name: line[name] or "" for name in head}
            name = row["name"] if path == "sites.csv" else " ".join(row[n] for n in SETPOINT[:3])
            found.append(Item(path[:-5], name, path, rows(head, [row])))
        return found
    if path == "fences.geojson":
        return [Item("fence", f["properties"]["name"], path, pretty(f)) for f in json.loads(text)["features"]]
    if path in ("outlets.json", "contacts.json", "chains.json"):
        return [Item(path[:-6], one["name"], path, pretty(one)) for one in json.loads(text)]
    if folder == "types" and file.endswith(".json"):
        return [Item("type", json.loads(text)["key"], path, pretty(json.loads(text)))]
    if folder == "tables" and file.endswith(".csv"):
        return [Item("table", unquote(file.removesuffix(".csv")), path, text)]
    if folder == "decoders" and file.endswith(".cases.jsonl"):
        return [Item("cases", file.removesuffix(".cases.jsonl"), path, text)]
    if folder == "decoders" and file.endswith(".ocu"):
        return [Item("decoder", file.removesuffix(".ocu"), path, text)]
    if folder in ("routes", "conditions") and file.endswith(".ocu"):
        name = re.search(r'^\w+ "((?:[^"\\]|\\.)*)"', text, re.M)
        if name is None:
            raise Refused("archive", f'expected `{folder[:-1]} "name"`')
        return [Item(folder[:-1], json.loads(f'"{name[1]}"'), path, text)]
    if folder == "conditions" and file.endswith(".md"):
        return [Item("instruction", file.removesuffix(".md"), path, text)]
    raise Refused("archive", "there is no such file in an archive")
