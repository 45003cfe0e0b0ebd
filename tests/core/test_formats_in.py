"""Photos in other formats: 16 bits a channel, raw, colour profiles; broken and huge ones of each kind."""

from __future__ import annotations

import io
import struct
import zlib
from pathlib import Path

import cv2
import numpy as np
import pytest
import tifffile
from PIL import Image, ImageCms, ImageOps

from vast_quarry.core.errors import PlainError
from vast_quarry.core.photo import reading
from vast_quarry.core.photo.decode import develop_raw
from vast_quarry.core.photo.reading import PHOTO_ENDINGS, load_alpha, load_deep, load_rgb, load_small, read_facts

DATA = Path(__file__).parent.parent / "data"


def ramp(width: int = 120, height: int = 90) -> np.ndarray:
    """Red grows to the right, green downwards."""
    out = np.zeros((height, width, 3), np.uint16)
    out[..., 0] = np.linspace(0, 65535, width)[None]
    out[..., 1] = np.linspace(0, 65535, height)[:, None]
    return out


@pytest.mark.parametrize("ending", [".png", ".tif", ".tiff"])
def test_sixteen_bits_a_channel(tmp_path: Path, ending: str) -> None:
    file = tmp_path / f"deep{ending}"
    cv2.imwrite(str(file), cv2.cvtColor(ramp(), cv2.COLOR_RGB2BGR))
    rgb = load_rgb(file)
    np.testing.assert_array_equal(rgb, (ramp().astype(int) * 255 + 32767) // 65535)
    assert read_facts(file).width == 120
    assert load_small(file, 60).shape == (45, 60, 3)
    assert load_alpha(file) is None


@pytest.mark.parametrize("orientation", [1, 2, 3, 4, 5, 6, 7, 8])
def test_photos_of_every_kind_come_upright(tmp_path: Path, orientation: int) -> None:
    """Held against Pillow's own turning of a PNG. A TIFF was turned twice: the libraries turn it whatever they are told."""
    deep, exif = ramp(), Image.Exif()
    exif[274] = orientation
    eight = Image.fromarray((deep >> 8).astype(np.uint8))
    eight.save(tmp_path / "a.png", exif=exif)
    eight.save(tmp_path / "plain.tif", exif=exif)
    eight.save(tmp_path / "packed.tif", exif=exif, compression="tiff_lzw")
    eight.save(tmp_path / "a.webp", exif=exif, lossless=True)
    tifffile.imwrite(tmp_path / "deep.tif", deep, photometric="rgb", extratags=[(274, "H", 1, orientation, True)])
    # a PNG of 16 bits with the same tags (eXIf, PNG specification, third edition, 11.3.4.7)
    png, tags = cv2.imencode(".png", deep[..., ::-1])[1].tobytes(), b"eXIf" + exif.tobytes()[6:]
    chunk = struct.pack(">I", len(tags) - 4) + tags + struct.pack(">I", zlib.crc32(tags))
    (tmp_path / "deep.png").write_bytes(png[:33] + chunk + png[33:])
    upright = np.asarray(ImageOps.exif_transpose(Image.open(tmp_path / "a.png")))
    for name in ("a.png", "plain.tif", "packed.tif", "a.webp"):
        np.testing.assert_array_equal(load_rgb(tmp_path / name), upright, name)
        np.testing.assert_array_equal(load_deep(tmp_path / name), upright * np.uint16(257), name)
    for name in ("deep.tif", "deep.png"):
        assert np.abs(load_rgb(tmp_path / name).astype(int) - upright).max() <= 1, name
        got = load_deep(tmp_path / name)
        assert len(np.unique(got[..., 0])) == 120
        np.testing.assert_array_equal(got >> 8, upright, name)
        assert load_deep(tmp_path / name, 0.5).shape == (got.shape[0] // 2, got.shape[1] // 2, 3)
    for file in tmp_path.iterdir():
        assert (read_facts(file).height, read_facts(file).width) == upright.shape[:2], file.name


@pytest.mark.parametrize("ending", [".png", ".tif"])
def test_a_grey_picture_of_sixteen_bits_keeps_them(tmp_path: Path, ending: str) -> None:
    file, grey = tmp_path / f"grey{ending}", ramp()[..., 0]
    cv2.imwrite(str(file), grey)
    np.testing.assert_array_equal(load_deep(file), np.repeat(grey[..., None], 3, axis=2))
    assert np.abs(load_rgb(file).astype(float) - load_deep(file) / 257).max() < 1


def test_a_deep_alpha_channel_is_a_mask(tmp_path: Path) -> None:
    file = tmp_path / "cut.png"
    alpha = np.full((90, 120), 65535, np.uint16)
    alpha[:, :40] = 0
    cv2.imwrite(str(file), np.dstack([cv2.cvtColor(ramp(), cv2.COLOR_RGB2BGR), alpha]))
    kept = load_alpha(file)
    assert kept is not None
    assert not kept[:, :40].any()
    assert kept[:, 40:].all()
    assert load_rgb(file).shape == (90, 120, 3)


def dng(file: Path, rgb: tuple[int, int, int], orientation: int = 1, around: int | None = None) -> None:
    """A plain DNG (Adobe DNG 1.4, uncompressed Bayer mosaic) of one colour in its camera's own light, with grey ``around``."""
    mosaic = np.empty((128, 192), np.uint16)
    mosaic[0::2, 0::2], mosaic[1::2, 1::2] = rgb[0], rgb[2]
    mosaic[0::2, 1::2] = mosaic[1::2, 0::2] = rgb[1]
    if around is not None:
        mosaic[:, :48] = mosaic[:, -48:] = around
    # the camera sees XYZ as sRGB's primaries do
    xyz_to_camera = np.linalg.inv([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
    matrix = [x for v in xyz_to_camera.ravel() for x in (round(v * 10000), 10000)]
    tags = [
        (274, "H", 1, orientation, True), (33421, "H", 2, (2, 2), True), (33422, "B", 4, b"\0\1\1\2", True),
        (50706, "B", 4, b"\1\4\0\0", True), (50708, "s", 0, "Hollowmere R1", True), (50714, "H", 1, 0, True),
        (50717, "H", 1, 65535, True), (50721, "2i", 9, matrix, True),
        (50728, "2I", 3, (1, 1, 1, 1, 1, 1), True), (50778, "H", 1, 21, True),
    ]  # fmt: skip
    tifffile.imwrite(file, mosaic, photometric=32803, extratags=tags, metadata=None)


def test_a_raw_picture_is_developed_with_the_cameras_white_balance(tmp_path: Path) -> None:
    file = tmp_path / "shot.dng"
    dng(file, (30000, 20000, 10000))
    facts = read_facts(file)
    assert (facts.width, facts.height) == (192, 128)
    linear = develop_raw(file, linear=True)[40:80, 60:120].reshape(-1, 3).mean(0)
    assert linear.dtype == np.float64
    assert linear[0] / linear[1] == pytest.approx(1.5, rel=0.08)
    assert linear[2] / linear[1] == pytest.approx(0.5, rel=0.15)
    assert load_rgb(file).shape == (128, 192, 3)
    deep = load_deep(file)
    assert deep.dtype == np.uint16
    assert np.abs(deep / 257 - load_rgb(file)).max() < 1
    turned = tmp_path / "turned.dng"
    dng(turned, (30000, 20000, 10000), orientation=6)
    assert (read_facts(turned).width, read_facts(turned).height) == (128, 192)
    assert load_rgb(turned).shape == (192, 128, 3)


def test_raw_shots_of_one_exposure_stay_alike_whatever_else_is_in_the_frame(tmp_path: Path) -> None:
    grey, seen, deep = 12000, [], []
    for n, around in enumerate((500, 12000, 50000, 65535)):
        file = tmp_path / f"{n}.dng"
        dng(file, (grey, grey, grey), around=around)
        seen.append(load_rgb(file)[50:70, 80:110].reshape(-1, 3).mean(0))
        deep.append(load_deep(file))
    assert np.ptp(np.array(seen), axis=0).max() <= 1
    # and as bright as it was exposed: the sRGB curve (IEC 61966-2-1) of that share of white
    expected = 255 * (1.055 * (grey / 65535) ** (1 / 2.4) - 0.055)
    assert seen[0][1] == pytest.approx(expected, abs=3)
    # of a surround below white nothing is clipped in 16 bits
    assert deep[2].max() < 65535


def test_colours_of_another_profile_become_srgb(tmp_path: Path) -> None:
    # a profile with sRGB's primaries exchanged: red and green change places
    swapped = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB"))
    data = bytearray(swapped.tobytes())
    tags = {bytes(data[132 + 12 * k : 136 + 12 * k]): 132 + 12 * k for k in range(int.from_bytes(data[128:132], "big"))}
    r, g = tags[b"rXYZ"], tags[b"gXYZ"]
    data[r + 4 : r + 12], data[g + 4 : g + 12] = data[g + 4 : g + 12], data[r + 4 : r + 12]
    data = data.replace("sRGB built-in".encode("utf-16-be"), "swapped rrr  ".encode("utf-16-be"))
    image = Image.fromarray(np.full((80, 80, 3), (200, 40, 40), np.uint8))
    image.save(tmp_path / "swapped.png", icc_profile=bytes(data))
    got = load_rgb(tmp_path / "swapped.png")[40, 40]
    np.testing.assert_allclose(got, (40, 200, 40), atol=6)
    # 16 bits are turned the same way, without steps: a ramp finer than 8 bits stays one
    fine = np.zeros((80, 1000, 3), np.uint16)
    fine[..., 0] = np.linspace(20000, 24000, 1000)
    tifffile.imwrite(tmp_path / "fine.tif", fine, photometric="rgb", iccprofile=bytes(data))
    turned = load_deep(tmp_path / "fine.tif")[40].astype(int)
    np.testing.assert_allclose(turned[:, 1] / 257, load_rgb(tmp_path / "fine.tif")[40, :, 1], atol=1.5)
    assert np.diff(turned[:, 1]).min() >= 1
    assert np.diff(turned[:, 1]).max() < 8
    assert np.ptp(turned[:, 0]) < 300
    image.save(tmp_path / "broken.png", icc_profile=b"no profile at all")
    np.testing.assert_array_equal(load_rgb(tmp_path / "broken.png")[0, 0], (200, 40, 40))


@pytest.mark.parametrize("ending", sorted(PHOTO_ENDINGS))
def test_empty_and_cut_files_of_every_kind_are_told_plainly(tmp_path: Path, ending: str) -> None:
    empty, cut = tmp_path / f"empty{ending}", tmp_path / f"cut{ending}"
    empty.write_bytes(b"")
    whole = io.BytesIO()
    noise = Image.fromarray(np.random.default_rng(0).integers(0, 255, (200, 200, 3), np.uint8))
    kind = {".jpg": "JPEG", ".jpeg": "JPEG", ".tif": "TIFF", ".tiff": "TIFF", ".tga": "TGA"}.get(
        ending, ending[1:].upper()
    )
    if kind in ("PNG", "WEBP", "BMP", "JPEG", "TIFF", "TGA"):
        noise.save(whole, kind)
        cut.write_bytes(whole.getvalue()[: len(whole.getvalue()) // 3])
    else:
        cut.write_bytes(b"II*\0" + bytes(300))

    def read(file: Path) -> None:
        read_facts(file)
        load_rgb(file)

    for file in (empty, cut):
        with pytest.raises(PlainError):
            read(file)


def test_a_picture_over_the_limit_is_not_decoded(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reading, "LARGEST", 10_000)
    cv2.imwrite(str(tmp_path / "deep.tif"), cv2.cvtColor(ramp(), cv2.COLOR_RGB2BGR))
    dng(tmp_path / "shot.dng", (3, 3, 3))
    monkeypatch.setattr(cv2, "imdecode", lambda *_: pytest.fail("was decoded"))
    for name in ("deep.tif", "shot.dng"):
        with pytest.raises(PlainError, match="megapixels"):
            load_rgb(tmp_path / name)


@pytest.mark.parametrize("name", ["ramp.heic", "ramp-turned.heic"])
def test_a_whole_heic_file_is_read_upright_with_its_exif(tmp_path: Path, name: str) -> None:
    # made from the ramp with libheif 1.23 (x265), the second one as a phone held upright stores it: lying, with a turn
    file = DATA / name
    facts = read_facts(file)
    assert (facts.width, facts.height) == (192, 128)
    assert (facts.exif.model, facts.exif.iso, facts.focal_source) == ("Pocket One", 64, "35 mm equivalent")
    rgb = load_rgb(file).astype(int)
    expected = ramp(192, 128) // 257
    assert np.abs(rgb[4:-4, 4:-4] - expected[4:-4, 4:-4]).mean() < 4
    assert load_small(file, 96).shape == (64, 96, 3)
    cut = tmp_path / "cut.heic"
    cut.write_bytes(file.read_bytes()[:-300])
    with pytest.raises(PlainError, match=r"damaged|not a picture"):
        load_rgb(cut)
