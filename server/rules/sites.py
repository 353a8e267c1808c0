"""Sites as devices of their own: what routes gather for a site is kept and watched as readings of that device."""

from __future__ import annotations

from oculum.language.routes.check import SITE
from server.records.fleet.models import Device, DeviceType, Site
from server.records.people.models import Person
from server.rules.registering import registry_changed


def sites_as_devices(person: Person | None, *, begin: bool = False) -> None:
    """Every site gets a device of its own where it has none. begin: also where there is none of the kind yet."""
    type_ = DeviceType.objects.filter(key=SITE).first()
    if type_ is None:
        if not begin:
            return
        type_ = DeviceType.objects.create(key=SITE, title="Site")
    bare = Site.objects.exclude(pk__in=Device.objects.filter(type=type_, site__isnull=False).values("site"))
    made = [
        Device.objects.create(name=_free(f"site-{site.name}"), title=site.title, type=type_, site=site)
        for site in bare.order_by("name")
    ]
    if made:
        registry_changed(person)


def _free(name: str) -> str:
    """A name of a device that is not taken."""
    found, number = name[:63], 2
    while Device.objects.filter(name=found).exists():
        found, number = f"{name[:59]}-{number}", number + 1
    return found


def without_device(site: Site) -> None:
    """The device of a site that is about to go: what it has measured stays with it, out of service."""
    for device in Device.objects.select_for_update().filter(type__key=SITE, site=site):
        device.site, device.phase = None, "retired"
        device.revise()
