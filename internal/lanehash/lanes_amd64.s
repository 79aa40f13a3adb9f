#include "textflag.h"

// SHA-256 (FIPS 180-4, section 6.2) in sixteen lanes. Z0 to Z7 are the working variables a to h, Z16 to Z31 the last
// sixteen words of the message schedule, each with a word of every lane; Z8 to Z11 are scratch.
//
// Bits of the immediate of VPTERNLOGD: 0x96 is x ^ y ^ z, 0xCA is x ? y : z (Ch), 0xE8 is the majority (Maj).

// LOAD reads word i of a block of each lane: gathered by the addresses in Z12 and Z13, its bytes turned round.
#define LOAD(i, w, half) \
	KXNORW K1, K1, K1; \
	KXNORW K2, K2, K2; \
	VPGATHERQD (4*i)(R9)(Z12*1), K1, half; \
	VPGATHERQD (4*i)(R9)(Z13*1), K2, Y8; \
	VINSERTI64X4 $1, Y8, w, w; \
	VPSHUFB Z14, w, w

#define ROUND(a, b, c, d, e, f, g, h, w, i) \
	VPADDD.BCST (4*i)(R8), w, Z8; \
	VPRORD $6, e, Z9; \
	VPRORD $11, e, Z10; \
	VPRORD $25, e, Z11; \
	VPADDD Z8, h, h; \
	VPTERNLOGD $0x96, Z9, Z10, Z11; \
	VMOVDQA32 e, Z8; \
	VPTERNLOGD $0xCA, g, f, Z8; \
	VPADDD Z11, h, h; \
	VPRORD $2, a, Z9; \
	VPRORD $13, a, Z10; \
	VPRORD $22, a, Z11; \
	VPADDD Z8, h, h; \
	VMOVDQA32 a, Z8; \
	VPTERNLOGD $0x96, Z9, Z10, Z11; \
	VPTERNLOGD $0xE8, c, b, Z8; \
	VPADDD h, d, d; \
	VPADDD Z11, h, h; \
	VPADDD Z8, h, h

// SCHEDULE makes of word w the one sixteen words later, of those that are one, nine and fourteen words later.
#define SCHEDULE(w, w1, w9, w14) \
	VPRORD $7, w1, Z8; \
	VPRORD $18, w1, Z9; \
	VPSRLD $3, w1, Z10; \
	VPTERNLOGD $0x96, Z8, Z9, Z10; \
	VPADDD w9, w, w; \
	VPRORD $17, w14, Z8; \
	VPRORD $19, w14, Z9; \
	VPSRLD $10, w14, Z11; \
	VPTERNLOGD $0x96, Z8, Z9, Z11; \
	VPADDD Z10, w, w; \
	VPADDD Z11, w, w

// func compress(state *[8][16]uint32, at *[16]unsafe.Pointer, blocks uint64)
TEXT ·compress(SB), NOSPLIT, $0-24
	MOVQ state+0(FP), AX
	MOVQ at+8(FP), BX
	MOVQ blocks+16(FP), CX
	XORQ R9, R9
	VMOVDQU64 (BX), Z12
	VMOVDQU64 64(BX), Z13
	VBROADCASTI32X4 turned<>(SB), Z14
	MOVQ $64, DX
	VPBROADCASTQ DX, Z15
	VMOVDQU32 0(AX), Z0
	VMOVDQU32 64(AX), Z1
	VMOVDQU32 128(AX), Z2
	VMOVDQU32 192(AX), Z3
	VMOVDQU32 256(AX), Z4
	VMOVDQU32 320(AX), Z5
	VMOVDQU32 384(AX), Z6
	VMOVDQU32 448(AX), Z7

block:
	TESTQ CX, CX
	JZ done
	LOAD(0, Z16, Y16)
	LOAD(1, Z17, Y17)
	LOAD(2, Z18, Y18)
	LOAD(3, Z19, Y19)
	LOAD(4, Z20, Y20)
	LOAD(5, Z21, Y21)
	LOAD(6, Z22, Y22)
	LOAD(7, Z23, Y23)
	LOAD(8, Z24, Y24)
	LOAD(9, Z25, Y25)
	LOAD(10, Z26, Y26)
	LOAD(11, Z27, Y27)
	LOAD(12, Z28, Y28)
	LOAD(13, Z29, Y29)
	LOAD(14, Z30, Y30)
	LOAD(15, Z31, Y31)
	VPADDQ Z15, Z12, Z12
	VPADDQ Z15, Z13, Z13
	LEAQ constants<>(SB), R8
	MOVQ $3, R10

rounds:
	ROUND(Z0, Z1, Z2, Z3, Z4, Z5, Z6, Z7, Z16, 0)
	SCHEDULE(Z16, Z17, Z25, Z30)
	ROUND(Z7, Z0, Z1, Z2, Z3, Z4, Z5, Z6, Z17, 1)
	SCHEDULE(Z17, Z18, Z26, Z31)
	ROUND(Z6, Z7, Z0, Z1, Z2, Z3, Z4, Z5, Z18, 2)
	SCHEDULE(Z18, Z19, Z27, Z16)
	ROUND(Z5, Z6, Z7, Z0, Z1, Z2, Z3, Z4, Z19, 3)
	SCHEDULE(Z19, Z20, Z28, Z17)
	ROUND(Z4, Z5, Z6, Z7, Z0, Z1, Z2, Z3, Z20, 4)
	SCHEDULE(Z20, Z21, Z29, Z18)
	ROUND(Z3, Z4, Z5, Z6, Z7, Z0, Z1, Z2, Z21, 5)
	SCHEDULE(Z21, Z22, Z30, Z19)
	ROUND(Z2, Z3, Z4, Z5, Z6, Z7, Z0, Z1, Z22, 6)
	SCHEDULE(Z22, Z23, Z31, Z20)
	ROUND(Z1, Z2, Z3, Z4, Z5, Z6, Z7, Z0, Z23, 7)
	SCHEDULE(Z23, Z24, Z16, Z21)
	ROUND(Z0, Z1, Z2, Z3, Z4, Z5, Z6, Z7, Z24, 8)
	SCHEDULE(Z24, Z25, Z17, Z22)
	ROUND(Z7, Z0, Z1, Z2, Z3, Z4, Z5, Z6, Z25, 9)
	SCHEDULE(Z25, Z26, Z18, Z23)
	ROUND(Z6, Z7, Z0, Z1, Z2, Z3, Z4, Z5, Z26, 10)
	SCHEDULE(Z26, Z27, Z19, Z24)
	ROUND(Z5, Z6, Z7, Z0, Z1, Z2, Z3, Z4, Z27, 11)
	SCHEDULE(Z27, Z28, Z20, Z25)
	ROUND(Z4, Z5, Z6, Z7, Z0, Z1, Z2, Z3, Z28, 12)
	SCHEDULE(Z28, Z29, Z21, Z26)
	ROUND(Z3, Z4, Z5, Z6, Z7, Z0, Z1, Z2, Z29, 13)
	SCHEDULE(Z29, Z30, Z22, Z27)
	ROUND(Z2, Z3, Z4, Z5, Z6, Z7, Z0, Z1, Z30, 14)
	SCHEDULE(Z30, Z31, Z23, Z28)
	ROUND(Z1, Z2, Z3, Z4, Z5, Z6, Z7, Z0, Z31, 15)
	SCHEDULE(Z31, Z16, Z24, Z29)
	ADDQ $64, R8
	DECQ R10
	JNZ rounds

	ROUND(Z0, Z1, Z2, Z3, Z4, Z5, Z6, Z7, Z16, 0)
	ROUND(Z7, Z0, Z1, Z2, Z3, Z4, Z5, Z6, Z17, 1)
	ROUND(Z6, Z7, Z0, Z1, Z2, Z3, Z4, Z5, Z18, 2)
	ROUND(Z5, Z6, Z7, Z0, Z1, Z2, Z3, Z4, Z19, 3)
	ROUND(Z4, Z5, Z6, Z7, Z0, Z1, Z2, Z3, Z20, 4)
	ROUND(Z3, Z4, Z5, Z6, Z7, Z0, Z1, Z2, Z21, 5)
	ROUND(Z2, Z3, Z4, Z5, Z6, Z7, Z0, Z1, Z22, 6)
	ROUND(Z1, Z2, Z3, Z4, Z5, Z6, Z7, Z0, Z23, 7)
	ROUND(Z0, Z1, Z2, Z3, Z4, Z5, Z6, Z7, Z24, 8)
	ROUND(Z7, Z0, Z1, Z2, Z3, Z4, Z5, Z6, Z25, 9)
	ROUND(Z6, Z7, Z0, Z1, Z2, Z3, Z4, Z5, Z26, 10)
	ROUND(Z5, Z6, Z7, Z0, Z1, Z2, Z3, Z4, Z27, 11)
	ROUND(Z4, Z5, Z6, Z7, Z0, Z1, Z2, Z3, Z28, 12)
	ROUND(Z3, Z4, Z5, Z6, Z7, Z0, Z1, Z2, Z29, 13)
	ROUND(Z2, Z3, Z4, Z5, Z6, Z7, Z0, Z1, Z30, 14)
	ROUND(Z1, Z2, Z3, Z4, Z5, Z6, Z7, Z0, Z31, 15)

	VPADDD 0(AX), Z0, Z0
	VPADDD 64(AX), Z1, Z1
	VPADDD 128(AX), Z2, Z2
	VPADDD 192(AX), Z3, Z3
	VPADDD 256(AX), Z4, Z4
	VPADDD 320(AX), Z5, Z5
	VPADDD 384(AX), Z6, Z6
	VPADDD 448(AX), Z7, Z7
	VMOVDQU32 Z0, 0(AX)
	VMOVDQU32 Z1, 64(AX)
	VMOVDQU32 Z2, 128(AX)
	VMOVDQU32 Z3, 192(AX)
	VMOVDQU32 Z4, 256(AX)
	VMOVDQU32 Z5, 320(AX)
	VMOVDQU32 Z6, 384(AX)
	VMOVDQU32 Z7, 448(AX)
	DECQ CX
	JMP block

done:
	VZEROUPPER
	RET

// func hasSHA() bool
TEXT ·hasSHA(SB), NOSPLIT, $0-1
	MOVL $7, AX
	XORL CX, CX
	CPUID
	SHRL $29, BX
	ANDL $1, BX
	MOVB BX, ret+0(FP)
	RET

DATA turned<>+0(SB)/8, $0x0405060700010203
DATA turned<>+8(SB)/8, $0x0c0d0e0f08090a0b
GLOBL turned<>(SB), (NOPTR+RODATA), $16

DATA constants<>+0x00(SB)/8, $0x71374491428a2f98
DATA constants<>+0x08(SB)/8, $0xe9b5dba5b5c0fbcf
DATA constants<>+0x10(SB)/8, $0x59f111f13956c25b
DATA constants<>+0x18(SB)/8, $0xab1c5ed5923f82a4
DATA constants<>+0x20(SB)/8, $0x12835b01d807aa98
DATA constants<>+0x28(SB)/8, $0x550c7dc3243185be
DATA constants<>+0x30(SB)/8, $0x80deb1fe72be5d74
DATA constants<>+0x38(SB)/8, $0xc19bf1749bdc06a7
DATA constants<>+0x40(SB)/8, $0xefbe4786e49b69c1
DATA constants<>+0x48(SB)/8, $0x240ca1cc0fc19dc6
DATA constants<>+0x50(SB)/8, $0x4a7484aa2de92c6f
DATA constants<>+0x58(SB)/8, $0x76f988da5cb0a9dc
DATA constants<>+0x60(SB)/8, $0xa831c66d983e5152
DATA constants<>+0x68(SB)/8, $0xbf597fc7b00327c8
DATA constants<>+0x70(SB)/8, $0xd5a79147c6e00bf3
DATA constants<>+0x78(SB)/8, $0x1429296706ca6351
DATA constants<>+0x80(SB)/8, $0x2e1b213827b70a85
DATA constants<>+0x88(SB)/8, $0x53380d134d2c6dfc
DATA constants<>+0x90(SB)/8, $0x766a0abb650a7354
DATA constants<>+0x98(SB)/8, $0x92722c8581c2c92e
DATA constants<>+0xa0(SB)/8, $0xa81a664ba2bfe8a1
DATA constants<>+0xa8(SB)/8, $0xc76c51a3c24b8b70
DATA constants<>+0xb0(SB)/8, $0xd6990624d192e819
DATA constants<>+0xb8(SB)/8, $0x106aa070f40e3585
DATA constants<>+0xc0(SB)/8, $0x1e376c0819a4c116
DATA constants<>+0xc8(SB)/8, $0x34b0bcb52748774c
DATA constants<>+0xd0(SB)/8, $0x4ed8aa4a391c0cb3
DATA constants<>+0xd8(SB)/8, $0x682e6ff35b9cca4f
DATA constants<>+0xe0(SB)/8, $0x78a5636f748f82ee
DATA constants<>+0xe8(SB)/8, $0x8cc7020884c87814
DATA constants<>+0xf0(SB)/8, $0xa4506ceb90befffa
DATA constants<>+0xf8(SB)/8, $0xc67178f2bef9a3f7
GLOBL constants<>(SB), (NOPTR+RODATA), $256
