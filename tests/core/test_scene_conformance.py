"""The made-up segment keeps the promises of an attachment."""

from __future__ import annotations

import unittest

from scopion.scenes.segment import SceneLink
from tests import conformance
from tests.support import host, made_up


class SceneConformance(conformance.AttachmentConformance):
    def setUp(self) -> None:
        described = [host(1), host(20), host(77)]
        self.attachment = self.scene = made_up(described)
        self.hosts = {each.periods[0].address: each.mac for each in described}

    def pull_the_plug(self) -> None:
        link = self.scene.open_link(self.eth0)
        assert isinstance(link, SceneLink)
        link.segment.up = False


if __name__ == "__main__":
    unittest.main()
