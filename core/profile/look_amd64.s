#include "textflag.h"
#include "go_asm.h"

// func lookVectors(text *byte, length int, into *looked, constants *[8]byte, places *[256][8]byte)
//
// AX text   BX length   DI into   R8 shape so far   CX bytes in it   DX place in the text
// R10 bytes of the block that are looked at   R11 spaces   R12 whether the byte before is one   R13 what is odd
// R14 bytes that stand in the shape   R9, SI scratch
// Y0 the block   Y1 its classes   Y2 those of the block before   Y3 to Y7 scratch   Y8 to Y15 constants
TEXT ·lookVectors(SB), NOSPLIT, $0-40
	MOVQ text+0(FP), AX
	MOVQ length+8(FP), BX
	MOVQ into+16(FP), DI
	LEAQ looked_shape(DI), R8
	XORL CX, CX
	XORL DX, DX
	XORL R13, R13
	MOVL $1, R12
	VPXOR Y2, Y2, Y2
	MOVQ constants+24(FP), SI
	VPBROADCASTB 0(SI), Y8  // a space, and the bit in which small letters differ from capitals
	VPBROADCASTB 1(SI), Y9  // what is below digits
	VPBROADCASTB 2(SI), Y10 // 9
	VPBROADCASTB 3(SI), Y11 // what is above digits
	VPBROADCASTB 4(SI), Y12 // what is below small letters
	VPBROADCASTB 5(SI), Y13 // what is above them
	VPBROADCASTB 6(SI), Y14 // A
	VPBROADCASTB 7(SI), Y15 // delete

block:
	VMOVDQU (AX)(DX*1), Y0
	MOVQ BX, SI
	SUBQ DX, SI // bytes left
	MOVL $-1, R10
	CMPQ SI, $32
	JGE  whole
	BZHIL SI, R10, R10

whole:
	VPMOVMSKB Y0, R9
	TESTL R10, R9
	JNZ  wide

	VPCMPGTB Y9, Y0, Y3
	VPCMPGTB Y0, Y11, Y4
	VPAND Y3, Y4, Y3  // digits
	VPOR  Y8, Y0, Y4
	VPCMPGTB Y12, Y4, Y5
	VPCMPGTB Y4, Y13, Y6
	VPAND Y5, Y6, Y4  // letters
	VPAND Y8, Y0, Y5
	VPOR  Y14, Y5, Y5 // A or a
	VPBLENDVB Y3, Y10, Y0, Y1
	VPBLENDVB Y4, Y5, Y1, Y1
	VPERM2I128 $0x21, Y1, Y2, Y6
	VPALIGNR $15, Y6, Y1, Y6 // the classes of the bytes before
	VMOVDQA Y1, Y2
	VPCMPEQB Y6, Y1, Y6
	VPOR  Y3, Y4, Y5
	VPAND Y5, Y6, Y6
	VPMOVMSKB Y6, R14
	ANDNL R10, R14, R14

	VPCMPEQB Y8, Y0, Y3
	VPCMPGTB Y0, Y8, Y4  // control characters
	VPCMPEQB Y15, Y0, Y5
	VPOR  Y4, Y5, Y4
	VPMOVMSKB Y3, R11
	VPMOVMSKB Y4, R9
	ANDL R10, R9
	ORL  R9, R13
	ANDL R10, R11
	LEAL (R12)(R11*2), R9 // the bytes after spaces
	ANDL R11, R9
	ORL  R9, R13
	ADDQ $32, DX
	MOVL R11, R12
	SHRL $31, R12
	CMPQ DX, BX
	JLT  pack
	LEAQ -1(SI), R9 // the last byte
	BTL  R9, R11
	ADCL $0, R13    // a space there is odd

pack:
	CMPQ CX, $const_shapeLimit
	JGT  packed
	MOVQ places+32(FP), SI
	MOVBLZX R14, R9
	VMOVQ (SI)(R9*8), X3
	VPSHUFB X3, X1, X3
	VMOVQ X3, (R8)(CX*1)
	POPCNTL R9, R9
	ADDQ R9, CX
	VPSRLDQ $8, X1, X4
	SHRL $8, R14
	MOVBLZX R14, R9
	VMOVQ (SI)(R9*8), X3
	VPSHUFB X3, X4, X3
	VMOVQ X3, (R8)(CX*1)
	POPCNTL R9, R9
	ADDQ R9, CX
	VEXTRACTI128 $1, Y1, X4
	SHRL $8, R14
	MOVBLZX R14, R9
	VMOVQ (SI)(R9*8), X3
	VPSHUFB X3, X4, X3
	VMOVQ X3, (R8)(CX*1)
	POPCNTL R9, R9
	ADDQ R9, CX
	VPSRLDQ $8, X4, X4
	SHRL $8, R14
	VMOVQ (SI)(R14*8), X3
	VPSHUFB X3, X4, X3
	VMOVQ X3, (R8)(CX*1)
	POPCNTL R14, R14
	ADDQ R14, CX

packed:
	CMPQ DX, BX
	JLT  block
	MOVQ CX, looked_count(DI)
	MOVL R13, looked_odd(DI)
	VZEROUPPER
	RET

wide:
	MOVB $1, looked_wide(DI)
	VZEROUPPER
	RET
