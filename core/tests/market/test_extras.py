"""What stands beside a chain comes back exactly, and damage is noticed."""

import unittest

import numpy as np
from hypothesis import example, given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

from strell_core.market.chains import ChainFormatError
from strell_core.market.extras import REAL, WHOLE, decode_extras, encode_extras, told

SHAPES = st.tuples(st.integers(1, 7), st.integers(1, 9))


@st.composite
def extras(draw: st.DrawFn) -> dict[str, np.ndarray]:
    shape = draw(SHAPES)
    whole = st.sampled_from(sorted(WHOLE))
    real = st.sampled_from(sorted(REAL))
    numbers = hnp.arrays(np.int32, shape, elements=st.integers(-1, 2**31 - 1))
    floats = hnp.arrays(np.float32, shape, elements=st.floats(width=32))
    return {**draw(st.dictionaries(whole, numbers)), **draw(st.dictionaries(real, floats))}


class ExtrasTest(unittest.TestCase):
    @settings(deadline=None)
    @given(extras())
    @example({"ask_size": np.array([[-1, 2**31 - 1]], np.int32)})
    def test_everything_comes_back(self, given_extras: dict[str, np.ndarray]) -> None:
        found = decode_extras(encode_extras(given_extras))
        self.assertEqual(set(found), set(given_extras))
        for name, values in given_extras.items():
            self.assertEqual(found[name].dtype, values.dtype)
            np.testing.assert_array_equal(found[name], values)

    def test_nothing_takes_no_room(self) -> None:
        self.assertEqual(encode_extras({}), b"")
        self.assertEqual(decode_extras(b""), {})

    def test_damage_is_noticed(self) -> None:
        data = bytearray(encode_extras({"last": np.array([[3, -1]], np.int32)}))
        for broken in (data[:3], bytes([9]) + bytes(data[1:]), bytes(data[:-1]) + bytes([data[-1] ^ 1])):
            with self.assertRaises(ChainFormatError):
                decode_extras(bytes(broken))

    def test_told_is_where_anything_was_told(self) -> None:
        given_extras = {
            "last": np.array([[-1, 5], [-1, -1]], np.int32),
            "iv": np.array([[np.nan, np.nan], [0.2, np.nan]], np.float32),
        }
        self.assertEqual(told(given_extras, 2, 2).tolist(), [[False, True], [True, False]])
        self.assertFalse(told({}, 2, 2).any())
