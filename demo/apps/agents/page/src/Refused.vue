<template>
  <el-empty :image-size="0" description="There is nothing here for you: you may not see this page, or it is not there.">
    <router-link to="/">To the start</router-link>
  </el-empty>
</template>
