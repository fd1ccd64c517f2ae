#include "textflag.h"

// func markBlocks(into *uint64, data *byte, blocks int, delimiter byte) (odd uint32)
TEXT ·markBlocks(SB), NOSPLIT, $0-36
	MOVQ into+0(FP), DI
	MOVQ data+8(FP), SI
	MOVQ blocks+16(FP), CX
	VPBROADCASTB delimiter+24(FP), Y0
	VPXOR   Y3, Y3, Y3 // all bytes, one over the other
	VPCMPEQB Y4, Y4, Y4 // the least of them

next:
	VMOVDQU (SI), Y1
	VMOVDQU 32(SI), Y2
	VPOR    Y1, Y3, Y3
	VPOR    Y2, Y3, Y3
	VPMINUB Y1, Y4, Y4
	VPMINUB Y2, Y4, Y4
	VPCMPEQB Y1, Y0, Y1
	VPCMPEQB Y2, Y0, Y2
	VPMOVMSKB Y1, AX
	VPMOVMSKB Y2, BX
	SHLQ $32, BX
	ORQ  BX, AX
	MOVQ AX, (DI)
	ADDQ $64, SI
	ADDQ $8, DI
	DECQ CX
	JNZ  next

	VPXOR Y1, Y1, Y1
	VPCMPEQB Y1, Y4, Y4
	VPOR  Y4, Y3, Y3
	VPMOVMSKB Y3, AX // the top bits, which only bytes beyond ASCII have, and a least byte of 0
	MOVL AX, odd+32(FP)
	VZEROUPPER
	RET
