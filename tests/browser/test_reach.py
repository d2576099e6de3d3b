"""The reach matrix in the browser: by mouse and by keyboard alone, and what an edit changes in it."""

import re

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Opened

pytestmark = pytest.mark.browser
