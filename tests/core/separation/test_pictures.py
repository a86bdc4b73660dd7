"""Pictures as they come: every kind that is taken, and those that are meant badly."""

from __future__ import annotations

import struct
import zlib
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image, ImageCms

from greyanchor.core.artwork.pictures import open_picture
from greyanchor.core.errors import BadInput


def save(path: Path, array: np.ndarray, mode: str | None = None, **options) -> Path:
    Image.fromarray(array, mode).save(path, **options)
    return path


def test_kinds_and_depths(tmp_path: Path) -> None:
    rgb = np.zeros((4, 6, 3), dtype=np.uint8)
    rgb[..., 0] = 200
    assert open_picture(save(tmp_path / "a.png", rgb)).kind == "rgb"
    cmyk = np.full((4, 6, 4), (10, 20, 30, 40), dtype=np.uint8)
    found = open_picture(save(tmp_path / "b.tif", cmyk, "CMYK", dpi=(360, 360)))
    assert (found.kind, found.ppi, found.ppi_known) == ("cmyk", pytest.approx(360), True)
    assert found.pixels()[0, 0].tolist() == [10, 20, 30, 40]
    deep = np.arange(24, dtype=np.uint16).reshape(4, 6) * 2700
    tifffile.imwrite(tmp_path / "c.tif", deep)
    found = open_picture(tmp_path / "c.tif")
    assert (found.kind, found.bits) == ("grey", 16) and np.array_equal(found.pixels()[..., 0], deep)
    assert not found.ppi_known and found.ppi == 300.0


def test_a_cmyk_jpeg_has_ink_where_it_has_ink(tmp_path: Path) -> None:
    """Adobe's JPEGs hold C M Y K upside down, others do not: both come out as amounts of ink."""
    cmyk = np.full((16, 16, 4), (0, 255, 0, 0), dtype=np.uint8)
    found = open_picture(save(tmp_path / "m.jpg", cmyk, "CMYK", quality=95)).pixels()
    assert np.abs(found.astype(int) - cmyk).max() < 12


def test_one_bit_palettes_and_transparency(tmp_path: Path) -> None:
    bits = Image.fromarray((np.indices((8, 8)).sum(axis=0) % 2 * 255).astype(np.uint8)).convert("1")
    bits.save(tmp_path / "bits.tif")
    found = open_picture(tmp_path / "bits.tif")
    assert found.kind == "grey" and set(np.unique(found.pixels())) == {0, 255}
    palette = Image.fromarray(np.full((8, 8, 3), (255, 0, 0), dtype=np.uint8)).convert("P")
    palette.save(tmp_path / "p.png")
    assert open_picture(tmp_path / "p.png").pixels()[0, 0].tolist() == [255, 0, 0]
    clear = np.zeros((8, 8, 4), dtype=np.uint8)
    clear[:, :4, 3] = 255
    found = open_picture(save(tmp_path / "clear.png", clear))
    pixels = found.pixels()
    assert pixels[0, 0].tolist() == [0, 0, 0] and pixels[0, 7].tolist() == [255, 255, 255]
    assert "laid on white" in " ".join(found.notes)


def test_a_camera_that_was_turned(tmp_path: Path) -> None:
    picture = Image.fromarray(np.arange(6, dtype=np.uint8).reshape(2, 3) * 40)
    exif = picture.getexif()
    exif[0x0112] = 6
    picture.save(tmp_path / "t.jpg", exif=exif, quality=100)
    found = open_picture(tmp_path / "t.jpg")
    assert (found.width, found.height) == (2, 3) and "turned upright" in found.notes[0]
    assert abs(int(found.pixels()[0, 1, 0]) - 0) < 8, "the first pixel is at the right now"


def test_a_profile_that_lies_is_left_out(tmp_path: Path) -> None:
    srgb = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    grey = save(tmp_path / "g.tif", np.zeros((4, 4), dtype=np.uint8), icc_profile=srgb)
    found = open_picture(grey)
    assert found.profile is None and "it is of RGB, the picture is GREY" in found.notes[0]
    good = save(tmp_path / "r.png", np.zeros((4, 4, 3), dtype=np.uint8), icc_profile=srgb)
    assert open_picture(good).profile == srgb
    junk = save(tmp_path / "j.tif", np.zeros((4, 4, 3), dtype=np.uint8), icc_profile=b"x" * 200)
    assert "not an ICC profile" in open_picture(junk).notes[0]


def test_pages_of_a_tiff(tmp_path: Path) -> None:
    pages = [Image.fromarray(np.full((4, 4), v, dtype=np.uint8)) for v in (10, 20, 30)]
    pages[0].save(tmp_path / "p.tif", save_all=True, append_images=pages[1:])
    assert open_picture(tmp_path / "p.tif", 3).pixels()[0, 0, 0] == 30
    with pytest.raises(BadInput, match=r"p\.tif"):
        open_picture(tmp_path / "p.tif", 4)


def png(width: int, height: int, data: bytes) -> bytes:
    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", data) + chunk(b"IEND", b"")


@pytest.mark.parametrize(
    ("name", "data", "says"),
    [
        ("empty.png", b"", "the file is empty"),
        ("text.tif", b"hello, I am a picture", "no picture that can be printed"),
        ("gif.gif", b"GIF89a" + b"\0" * 40, "no picture that can be printed"),
        ("bomb.png", png(100_000, 100_000, zlib.compress(b"\0" * 1000)), "more than can be printed"),
        ("zero.png", png(0, 4, b""), "zero.png"),
        ("cut.png", png(64, 64, zlib.compress(b"\0" * 100)), "damaged or cut off"),
        ("svg.svg", b"<svg xmlns='http://www.w3.org/2000/svg'/>", "no picture that can be printed"),
    ],
    ids=["empty", "text", "gif", "bomb", "zero", "cut", "svg"],
)
def test_what_is_no_picture_is_named(tmp_path: Path, name: str, data: bytes, says: str) -> None:
    (tmp_path / name).write_bytes(data)
    with pytest.raises(BadInput, match=says) as error:
        open_picture(tmp_path / name).pixels()
    assert len(str(error.value)) < 300


def test_a_bomb_costs_no_memory(tmp_path: Path) -> None:
    """A small file that says it is large is refused by what it says."""
    import tracemalloc

    (tmp_path / "b.png").write_bytes(png(900_000, 900_000, b""))
    tracemalloc.start()
    with pytest.raises(BadInput):
        open_picture(tmp_path / "b.png")
    assert tracemalloc.get_traced_memory()[1] < 20e6
    tracemalloc.stop()


def test_more_channels_than_anybody_said_the_meaning_of(tmp_path: Path) -> None:
    tifffile.imwrite(tmp_path / "n.tif", np.zeros((8, 8, 7), dtype=np.uint8), planarconfig="contig")
    with pytest.raises(BadInput, match="meaning it does not say"):
        open_picture(tmp_path / "n.tif")


def test_floating_point_becomes_sixteen_bits_with_a_note(tmp_path: Path) -> None:
    tifffile.imwrite(tmp_path / "f.tif", np.full((8, 8, 3), 0.5, dtype=np.float32), photometric="rgb")
    found = open_picture(tmp_path / "f.tif")
    assert found.bits == 16 and "scrgb" in found.notes[0]


def test_bands_are_the_picture(tmp_path: Path) -> None:
    picture = np.random.default_rng(2).integers(0, 255, (97, 41, 3)).astype(np.uint8)
    found = open_picture(save(tmp_path / "a.png", picture))
    parts = [band for _, band in found.bands(16)]
    assert np.array_equal(np.concatenate(parts), picture)
    again = open_picture(tmp_path / "a.png", random=True)
    assert np.array_equal(again.cropped(5, 7, 20, 30).pixels(), picture[7:37, 5:25])
    assert np.array_equal(again.turned(1).pixels(), np.rot90(picture, -1))
    assert np.array_equal(again.turned(2, True).pixels(), np.rot90(picture, 2)[:, ::-1])
    with pytest.raises(BadInput, match="reaches to"):
        again.cropped(30, 0, 20, 20)
