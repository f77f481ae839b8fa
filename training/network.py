"""The network: a small U-net over 2 x 2 tiles of the mosaic, from noisy coded values to a clean picture of all colours."""

from torch import Tensor, nn
from torch.nn import functional

from tanner.core.noise.coding import INPUTS, OUTPUTS

WIDTHS, MIDDLE = (32, 64, 112), 7
"""Channels at each scale, and blocks at the smallest."""


class Block(nn.Module):
    def __init__(self, width: int) -> None:
        super().__init__()
        self.a = nn.Conv2d(width, width, 3, padding=1)
        self.b = nn.Conv2d(width, width, 3, padding=1)

    def forward(self, x: Tensor) -> Tensor:
        return x + self.b(functional.relu(self.a(x)))


class Network(nn.Module):
    """Planes (N, 17, h, w) at half size, see `tanner.core.noise.coding`; gives a residual (N, 12, h, w) on a first guess.

    The outputs are red, green and blue at each of the four places of a tile.
    """

    def __init__(self) -> None:
        super().__init__()
        a, b, c = WIDTHS
        self.first = nn.Conv2d(INPUTS, a, 3, padding=1)
        self.in0 = nn.Sequential(Block(a), Block(a))
        self.down0 = nn.Conv2d(a, b, 2, stride=2)
        self.in1 = nn.Sequential(Block(b), Block(b))
        self.down1 = nn.Conv2d(b, c, 2, stride=2)
        self.middle = nn.Sequential(*(Block(c) for _ in range(MIDDLE)))
        self.up1 = nn.ConvTranspose2d(c, b, 2, stride=2)
        self.out1 = nn.Sequential(Block(b), Block(b))
        self.up0 = nn.ConvTranspose2d(b, a, 2, stride=2)
        self.out0 = nn.Sequential(Block(a), Block(a))
        self.last = nn.Conv2d(a, OUTPUTS, 3, padding=1)
        nn.init.zeros_(self.last.weight)
        nn.init.zeros_(self.last.bias)

    def forward(self, x: Tensor) -> Tensor:
        e0 = self.in0(self.first(x))
        e1 = self.in1(self.down0(e0))
        m = self.middle(self.down1(e1))
        d1 = self.out1(self.up1(m) + e1)
        d0 = self.out0(self.up0(d1) + e0)
        return self.last(d0)
