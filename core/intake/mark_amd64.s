#include "textflag.h"

// func markBlocks(into *uint64, data *byte, blocks int, delimiter byte)
TEXT ·markBlocks(SB), NOSPLIT, $0-25
	MOVQ into+0(FP), DI
	MOVQ data+8(FP), SI
	MOVQ blocks+16(FP), CX
	VPBROADCASTB delimiter+24(FP), Y0

next:
	VPCMPEQB (SI), Y0, Y1
	VPCMPEQB 32(SI), Y0, Y2
	VPMOVMSKB Y1, AX
	VPMOVMSKB Y2, BX
	SHLQ $32, BX
	ORQ  BX, AX
	MOVQ AX, (DI)
	ADDQ $64, SI
	ADDQ $8, DI
	DECQ CX
	JNZ  next
	VZEROUPPER
	RET
